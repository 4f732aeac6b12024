"""Schemas that several subjects share."""

from typing import Any

from pydantic import BaseModel, ConfigDict, Field


class Schema(BaseModel):
    """Base of all responses: filled from records as well as from dicts."""

    model_config = ConfigDict(from_attributes=True)


class Request(BaseModel):
    """Base of all requests: unknown fields are refused rather than silently dropped."""

    model_config = ConfigDict(extra="forbid")


class BinIn(Request):
    """Into the bin, or out of it."""

    binned: bool


class ProjectPath(BaseModel):
    project_id: int


class Problem(Schema):
    """An RFC 9457 problem document."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    current: dict[str, Any] | None = Field(None, description="For a conflict: how it stands now")


class JobOut(Schema):
    """A piece of long work."""

    id: int
    project_id: int
    kind: str
    title: str
    state: str
    done: int
    total: int
    message: str
    seconds_left: float | None
    stop_requested: bool
    outcome: dict[str, Any]


class JobList(Schema):
    jobs: list[JobOut]
