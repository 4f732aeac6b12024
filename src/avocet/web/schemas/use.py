"""Schemas of detections."""

from typing import Any

from pydantic import BaseModel, Field

from avocet.core.raw.candidates import OVERLAP_LIMIT
from avocet.store.tables import PictureState
from avocet.web.schemas.common import JobOut, Request, Schema, Whole


class DetectionIn(Request):
    run_id: Whole | None = None
    ensemble_id: Whole | None = None
    chosen_scores: bool = False
    clip_id: Whole | None = None
    pictures: bool = False
    state: PictureState | None = None
    minimum_score: float | None = Field(None, ge=0, le=1, description="Without one, the model's own")
    overlap_limit: float = Field(OVERLAP_LIMIT, ge=0, le=1)


class DetectionOut(Schema):
    id: int
    run_id: int | None
    ensemble_id: int | None
    run_name: str
    source: str
    minimum_score: float
    overlap_limit: float
    minimum_scores: dict[str, float]
    summary: dict[str, Any]
    created_at: str
    job: JobOut


class DetectionList(Schema):
    detections: list[DetectionOut]


class DetectionPath(BaseModel):
    detection_id: Whole
