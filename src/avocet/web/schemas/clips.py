"""Schemas of clips, and of the objects that are labelled on them."""

from typing import Any, Literal

from pydantic import BaseModel, Field

from avocet.store.clip_tables import Standing
from avocet.store.tables import LabelledAs
from avocet.web.schemas.common import Query, Request, Schema, Whole
from avocet.web.schemas.use.proposals import TimeOut


class ClipOut(Schema):
    id: int
    name: str
    width: int
    height: int
    rate: float
    seconds: float
    labelled_as: LabelledAs | None = Field(description="None until somebody chose")
    first: int
    last: int | None = Field(description="Frames from which and up to which it counts")
    per_second: float | None
    differing: float | None
    binned: bool = Field(description="It lies in the bin")


class ClipRow(ClipOut):
    objects: int = Field(description="Labelled objects")
    proposed: int = Field(description="Objects that a model proposes")
    pictures: int = Field(description="Its frames that are pictures of the project")


class ClipList(Schema):
    clips: list[ClipRow]


class ClipChoiceIn(Request):
    """How a clip is labelled, and which of its frames are learnt from."""

    labelled_as: LabelledAs
    first: Whole = Field(0, ge=0)
    last: Whole | None = Field(None, ge=0)
    per_second: float | None = Field(None, gt=0, le=240)
    differing: float | None = Field(None, ge=0, le=1)


class ClipPath(BaseModel):
    clip_id: Whole


class ClipDetail(ClipOut):
    """A clip and its frames, in the order in which they are shown."""

    project_id: int
    pictures: int = Field(description="Its frames that are pictures of the project")
    times: list[float] = Field(description="Seconds, of each frame")


class FramePath(ClipPath):
    number: Whole = Field(description="From 0, in the order in which frames are shown")


class TakeTracksQuery(Query):
    corners: bool | None = Field(
        None, description="Whether boxes of a COCO file are corners, x1, y1, x2, y2, against the format"
    )


class FrameQuery(Query):
    width: Whole | None = Field(None, ge=16, le=8192, description="Pixels, at most; by default as it is")


class SampleIn(Request):
    per_second: float | None = Field(None, gt=0, le=240, description="By default every frame")
    differing: float | None = Field(
        None, ge=0, le=1, description="Part of the picture that must have changed since the last one taken"
    )
    first: Whole = Field(0, ge=0)
    last: Whole | None = Field(None, ge=0)
    finished: bool = Field(False, description="All objects on these frames are labelled as tracks")


Corners = tuple[float, float, float, float]


class SetBoxIn(Request):
    frame: Whole
    corners: Corners = Field(description="x1, y1, x2, y2 in pixels of the clip")
    held: bool = Field(False, description="It stays as it is until the next one")
    origin: str = "hand"


class AttributesFrom(Request):
    frame: Whole = Field(description="From which on these hold")
    values: dict[str, Any]


class TrackIn(Request):
    class_id: Whole
    spans: list[tuple[Whole, Whole]] = Field(
        max_length=20_000, description="First and last frame of each stretch in sight"
    )
    sets: list[SetBoxIn] = Field(max_length=20_000)
    attributes: list[AttributesFrom] = Field(default_factory=list, max_length=5000)
    unsure: list[Whole] = Field(default_factory=list, max_length=20_000)
    model: str = Field("", max_length=100)
    standing: Standing = Standing.KEPT
    uid: str = Field(
        "",
        pattern=r"^[0-9a-f]{0,32}$",
        description="Tells the object from every other, whatever its number; the server gives one where there is none",
    )


class TrackChangeIn(Request):
    number: Whole = Field(ge=1, lt=2**53)
    revision: Whole = Field(ge=0, description="That the change was made on; 0 for a new object")
    track: TrackIn | None = Field(None, description="None removes the object")


class TracksIn(Request):
    changes: list[TrackChangeIn] = Field(max_length=5000)
    worked: float = Field(
        0.0, ge=0, le=86_400, description="Seconds that somebody worked on them since they were saved last"
    )


class SetBoxOut(Schema):
    frame: int
    corners: Corners
    held: bool
    origin: str


class AttributesFromOut(Schema):
    frame: int
    values: dict[str, Any]


class TrackOut(Schema):
    number: int
    uid: str
    revision: int
    class_id: int
    spans: list[tuple[int, int]]
    sets: list[SetBoxOut]
    attributes: list[AttributesFromOut]
    unsure: list[int]
    model: str
    standing: Standing


class TrackList(Schema):
    tracks: list[TrackOut]
    time: TimeOut | None = Field(
        None,
        description="What proposals saved on this clip; none where too few objects were drawn by hand to tell",
    )
    timed: int = Field(
        description="Objects of the project that were drawn by hand and tell how long one takes"
    )


class CarriedIn(Request):
    number: Whole
    box: Corners
    target: Corners | None = Field(None, description="Where it is known to be on the frame `to`")


class CarryIn(Request):
    frame: Whole = Field(ge=0)
    to: Whole | None = Field(None, ge=0, description="By default until it is lost")
    back: bool = Field(False, description="Without `to`: towards the beginning")
    least_iou: float = Field(0.9, ge=0.5, le=0.99, description="No box between set ones is off by more")
    boxes: list[CarriedIn] = Field(min_length=1, max_length=200)


class WriteTracksIn(Request):
    format: Literal["coco", "csv", "json-lines", "voc", "centre-text"]
    every: Whole = Field(1, ge=1, le=10_000, description="Only every so-many-th frame")
