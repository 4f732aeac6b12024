"""Schemas of detections."""

import json
from typing import Any, Literal

from pydantic import BaseModel, Field, field_validator

from avocet.core.raw.candidates import OVERLAP_LIMIT
from avocet.core.raw.suppressing import Method
from avocet.media.deep import LARGEST_WHITE
from avocet.store.tables import PictureState
from avocet.web.schemas.common import JobOut, Query, Request, Schema, Whole
from avocet.work.use.boxes import BoxOrder
from avocet.work.use.counting import MOST_SHAPES, Shape
from avocet.work.use.found import Order
from avocet.work.use.running.order import MOST_CORNERS, SMALLEST_TILE, Copies


class DetectionIn(Request):
    run_id: Whole | None = None
    ensemble_id: Whole | None = None
    address_id: Whole | None = Field(None, description="The model that answers under an address now")
    clip_id: Whole | None = None
    server_folder: str | None = Field(
        None, max_length=4096, description="A folder in one that the server may read"
    )
    pictures: bool = False
    state: PictureState | None = None
    minimum_score: float | None = Field(
        None, ge=0, le=1, description="Of all classes; without one, the model's own of each class"
    )
    minimum_scores: dict[str, float] = Field(
        default={}, max_length=1000, description="Of single classes; go before all others"
    )
    suppression: Method = Field("by class", description="How duplicates go")
    overlap_limit: float = Field(OVERLAP_LIMIT, ge=0, le=1)
    only: list[str] = Field(default=[], max_length=1000, description="Classes that count; all without any")
    region: list[tuple[float, float]] = Field(
        default=[],
        max_length=MOST_CORNERS,
        description="Corners in parts of width and height; outside nothing counts",
    )
    every: int = Field(1, ge=1, le=10_000, description="Of a clip, every so-many-th frame")
    a_second: float | None = Field(
        None, gt=0, le=1000, description="Instead, about so many frames of each second"
    )
    tile: int | None = Field(
        None, ge=SMALLEST_TILE, le=20_000, description="Look in overlapping tiles of so many pixels a side"
    )
    copies: Copies = "boxes"
    beside: bool = Field(False, description="Copies of clips have the original beside them")
    crops: bool = Field(False, description="Every box as a picture of its own")
    white: float | None = Field(
        None,
        gt=0,
        le=LARGEST_WHITE,
        description="White in all pictures of more than 8 bits; without one what their files, the model or all of them say",
    )
    on_cluster: bool = Field(False, description="By the machines of the server's cluster")

    @field_validator("only", "region", "minimum_scores", mode="before")
    @classmethod
    def _from_form(cls, value: Any) -> Any:
        """A list comes as JSON where the fields are those of a form."""
        if not isinstance(value, str):
            return value
        try:
            return json.loads(value)
        except (ValueError, RecursionError):
            raise ValueError("is not JSON") from None


class ClipSpan(Schema):
    """A clip among what was looked at: its frames lie one behind the other."""

    name: str
    first: int
    frames: int
    width: int
    height: int
    seconds: list[float] = Field(description="When each frame is shown")


class DetectionOut(Schema):
    id: int
    run_id: int | None
    ensemble_id: int | None
    run_name: str
    source: str
    minimum_score: float
    overlap_limit: float
    minimum_scores: dict[str, float]
    order: dict[str, Any]
    summary: dict[str, Any]
    created_at: str
    job: JobOut


class DetectionList(Schema):
    detections: list[DetectionOut]


class DetectionPath(BaseModel):
    detection_id: Whole


class PlacePath(DetectionPath):
    place: Whole


class PixelQuery(Query):
    longest: int = Field(1600, ge=16, le=4096, description="Pixels of the longer side, at most")


class NewestQuery(Query):
    name: str = Field(max_length=1000)
    seconds: float | None = Field(None, ge=0, le=1e7)


class Limits(Query):
    """What counts of what was found; without a minimum score or an overlap limit, the run's own."""

    minimum_score: float | None = Field(None, ge=0, le=1)
    overlap_limit: float | None = Field(None, ge=0, le=1)
    only: str = Field("", max_length=10_000, description="Classes that count, joined by line breaks")

    @property
    def classes(self) -> list[str]:
        return [each for each in self.only.split("\n") if each]


class FoundQuery(Limits):
    sort: Order = "as they came"
    with_class: str | None = Field(None, max_length=200)
    empty: bool = False
    against_labels: Literal["right", "wrong"] | None = Field(
        None, description="Only labelled pictures that came out as labelled, or did not"
    )
    start: Whole = 0
    count: int = Field(60, ge=1, le=500)


class Timeline(Schema):
    """``bins`` are places of pictures; ``counts`` the most boxes of each class on one picture of a bin."""

    classes: list[str]
    bins: list[int]
    seconds: list[float]
    counts: list[list[int]]
    boxes: list[int]
    pictures_with: list[int]
    empty: int
    pictures: int
    floor: float = Field(description="The lowest score that was recorded")
    clips: list[ClipSpan]


class FoundPicture(Schema):
    place: int
    name: str
    width: int
    height: int
    frame: int | None
    seconds: float | None
    annotated: str
    boxes: list[list[float]]
    scores: list[float]
    kinds: list[int]
    objects: list[int]
    missed: list[list[float]] = Field(default=[], description="Labels that nothing has found, where asked")
    false: list[int] = Field(default=[], description="Which of the boxes show no label, where asked")


class FoundPictures(Schema):
    total: int
    classes: list[str]
    pictures: list[FoundPicture]


class BoxesQuery(Limits):
    sort: BoxOrder = "as they came"
    with_class: str | None = Field(None, max_length=200)
    start: Whole = 0
    count: int = Field(60, ge=1, le=500)


class FoundBox(Schema):
    number: int
    place: int
    name: str
    frame: int | None
    seconds: float | None
    class_name: str
    score: float
    box: list[float] = Field(description="x1, y1, x2, y2 in pixels of the original picture")
    object: int


class FoundBoxes(Schema):
    total: int
    boxes: list[FoundBox]


class BoxPath(DetectionPath):
    number: Whole


class Right(Schema):
    """What was found against the labels of the pictures that are labelled now, at IoU 0.5."""

    pictures: int
    right: int = Field(description="Pictures with every object found and nothing else")
    found: dict[str, int]
    missed: dict[str, int]
    false: dict[str, int]


class ShapesIn(Request):
    shapes: list[Shape] = Field(max_length=MOST_SHAPES)


class ClipQuery(Query):
    clip: Whole = 0


class Counted(Schema):
    """What lines and regions count; a line has ``forward``, ``back`` and ``crossings``, a region the others."""

    shape: Shape
    forward: dict[str, int] = Field(default={})
    back: dict[str, int] = Field(default={})
    crossings: list[dict[str, Any]] = Field(default=[])
    objects: dict[str, int] = Field(default={})
    most: int = 0
    most_place: int = 0
    most_seconds: float = 0
    stays: list[dict[str, Any]] = Field(default=[])


class CountedList(Schema):
    counted: list[Counted]


class CollectIn(Request):
    """Which pictures, and which of their boxes: those that the same limits show."""

    places: list[Whole] = Field(min_length=1, max_length=2000)
    minimum_score: float | None = Field(None, ge=0, le=1)
    overlap_limit: float | None = Field(None, ge=0, le=1)
    only: list[str] = Field(default=[], max_length=1000)
