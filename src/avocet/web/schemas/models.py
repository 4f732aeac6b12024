"""Schemas of ensembles and minimum scores."""

from typing import Literal

from pydantic import BaseModel, Field

from avocet.core.raw.fusion import FUSION_IOU
from avocet.web.schemas.common import Query, Request, Schema, Whole


class Member(Request):
    run_id: Whole
    weight: float = Field(1, gt=0, le=1000)


class ModelQuery(Query):
    """One of them."""

    run_id: Whole | None = None
    ensemble_id: Whole | None = None


class ModelClasses(Schema):
    classes: list[str]
    missing: list[str] = Field(description="Those that its project does not have, or not any more")


class EnsembleIn(Request):
    name: str = ""
    members: list[Member]
    method: Literal["fusion", "suppression"] = "fusion"
    overlap_limit: float = Field(FUSION_IOU, gt=0, lt=1)


class MemberOut(Schema):
    run_id: int
    name: str
    weight: float


class EnsembleOut(Schema):
    id: int
    name: str
    members: list[MemberOut]
    method: str
    overlap_limit: float
    created_at: str


class EnsembleList(Schema):
    ensembles: list[EnsembleOut]


class EnsemblePath(BaseModel):
    ensemble_id: Whole


class MinimumScoresIn(Request):
    scores: dict[str, float]
