"""Schemas of live work."""

from typing import Any, Literal

from pydantic import BaseModel, Field

from avocet.media.deep import LARGEST_WHITE
from avocet.web.schemas.common import JobOut, Query, Request, Schema, Whole
from avocet.work.use.running.order import Copies


class LiveIn(Request):
    run_id: Whole | None = None
    ensemble_id: Whole | None = None
    name: str = Field("", max_length=100)
    camera: str | None = Field(
        None,
        max_length=500,
        description="Its address: rtsp://, http://, https:// or /dev/video0; or `this computer`, where a page sends frames",
    )
    watched: str | None = Field(None, max_length=4096, description="A folder in one that the server may read")
    out: str | None = Field(
        None, max_length=4096, description="Where a folder's results go; in the data folder without"
    )
    moves: bool = Field(False, description="Pictures are moved away once they were looked at")
    minimum_score: float | None = Field(None, ge=0, le=1)
    overlap_limit: float = Field(0.5, ge=0, le=1)
    only: list[str] = Field(default=[], max_length=1000)
    copies: Copies = "boxes"
    white: float | None = Field(
        None, gt=0, le=LARGEST_WHITE, description="White in a watched folder's pictures of more than 8 bits"
    )


class LiveOut(Schema):
    id: int
    name: str
    kind: Literal["camera", "folder"]
    source: str
    out: str
    moves: bool
    model: str
    minimum_score: float
    recordings: list[str]
    job: JobOut


class LiveList(Schema):
    live: list[LiveOut]
    beside: str = Field(description="What goes on at the same time, and what it costs")


class LiveNow(Schema):
    """What is shown now. ``age`` is in seconds, since the picture came and since this was written."""

    number: int
    state: str
    message: str
    classes: list[str]
    frames_per_second: float
    last_minute: dict[str, int]
    reconnects: int
    recording: str | None
    engine: str
    age: float | None
    written_ago: float
    width: int | None
    height: int | None
    boxes: list[list[float]]
    scores: list[float]
    kinds: list[int]
    objects: list[int]
    jpeg: str | None = Field(description="The picture, base64")
    done: int
    waiting: int
    latest: list[dict[str, Any]]
    problems: list[str]


class NowQuery(Query):
    after: int = Field(0, description="Without a picture where nothing is newer than this")


class RecordingIn(Request):
    on: bool


class LivePath(BaseModel):
    live_id: Whole
