"""Schemas of findings, crops and figures of the labels."""

from typing import Literal

from pydantic import Field

from avocet.store.tables import Part
from avocet.web.schemas.common import Query, Request, Schema, Whole
from avocet.work.audit.sheets import Crop
from avocet.work.labels.boxes import Origin
from avocet.work.train.ahead.choices import SIDE


class FiguresQuery(Query):
    side: Whole = Field(SIDE.default, ge=64, le=4096)
    part: Part | None = None


class PartFiguresOut(Schema):
    pictures: int
    labelled: int
    empty: int
    boxes: int
    by_class: dict[int, int]


class FiguresOut(Schema):
    parts: dict[str, PartFiguresOut]
    boxes_a_picture: dict[int, int]
    points: list[tuple[int, float, float, int]] = Field(description="Class id, width, height, picture id")
    places: list[list[int]]
    small: dict[int, float]
    small_at: float
    small_pictures: int
    learnable: float = Field(description="Input pixels under which a box is hard to learn")


class SheetQuery(Query):
    class_id: Whole
    order: Literal["size", "shape", "brightness", "date", "strange"] = "size"
    origin: Origin | None = Field(None, description="Only boxes of this origin")
    descending: bool = False
    start: Whole = Field(0, ge=0)
    limit: Whole = Field(200, ge=1, le=500)


class SheetOut(Schema):
    crops: list[Crop]
    total: int
    unseen: int


class BoxChange(Request):
    ids: list[Whole] = Field(max_length=100_000)
    class_id: Whole | None = Field(description="The class that the boxes get; null deletes them")


class FindingsQuery(Query):
    with_fine: bool = False


class SuspectBoxOut(Schema):
    id: int
    picture_id: int
    class_id: int
    corners: tuple[float, float, float, float]


class FindingOut(Schema):
    key: str
    kind: str
    text: str
    pictures: list[int]
    boxes: list[SuspectBoxOut]
    class_id: int | None = Field(description="The class it is about, where it is about one")
    fine: bool


class FindingsOut(Schema):
    listed: list[FindingOut]
    counts: dict[str, int]
    fine: int
    titles: dict[str, str]
    fresh: bool = Field(description="No label changed since they were looked through")
    looked_at: str | None = Field(description="Null where nobody has looked through them yet")


class CutIn(Request):
    picture_id: Whole


class JoinIn(Request):
    picture_ids: list[Whole] = Field(min_length=2, max_length=100)


class FindingsFineIn(Request):
    keys: list[str] = Field(max_length=10_000)
    fine: bool
