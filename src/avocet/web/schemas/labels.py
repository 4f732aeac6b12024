"""Schemas of attributes, changes, annotation files, snapshots, figures and the audit."""

from typing import Any, Literal

from pydantic import BaseModel, Field

from avocet.store.tables import AttributeKind, Part, PictureState
from avocet.web.schemas.common import ProjectPath, Request, Schema

FormatKey = Literal["coco", "voc", "centre-text", "csv", "json-lines"]


class AttributeOut(Schema):
    id: int
    name: str
    kind: AttributeKind
    class_id: int | None
    choices: list[str]
    boxes: int


class AttributeList(Schema):
    attributes: list[AttributeOut]


class NewAttribute(Request):
    name: str
    kind: AttributeKind
    class_id: int | None = None
    choices: list[str] = Field(default_factory=list, max_length=100)


class AttributePath(ProjectPath):
    attribute_id: int


class ChangeOut(Schema):
    id: int
    title: str
    made_at: str
    undone: bool


class ChangeList(Schema):
    changes: list[ChangeOut]


class ChangePath(ProjectPath):
    change_id: int


class UndoneOut(Schema):
    title: str
    pictures: int
    kept: int = Field(description="Pictures that were changed again since and stay as they are")


class ColumnsIn(Request):
    """Which column of a CSV file holds what."""

    picture: str
    label: str = ""
    kind: Literal["corners", "corner and size", "bracketed"]
    values: list[str] = Field(min_length=1, max_length=4)


class ReadAgain(Request):
    format: FormatKey | None = None
    columns: ColumnsIn | None = None


class TakeIn(Request):
    targets: dict[str, int | str] = Field(
        default_factory=dict,
        description="For names of classes in the file: a class id here, a new name, or '' to leave its boxes out",
    )
    replace: bool = Field(False, description="Replace the labels of pictures that have some")


class LossQuery(BaseModel):
    format: FormatKey = "coco"
    kind: Literal["corners", "corner and size", "bracketed"] = "corners"


class LossOut(Schema):
    pictures: int
    boxes: int
    lost: list[str]


class FormatOut(Schema):
    key: str
    name: str
    suffixes: list[str]
    many_files: bool


class FormatList(Schema):
    formats: list[FormatOut]


class SnapshotOut(Schema):
    id: int
    name: str
    note: str
    content_hash: str
    pictures: int
    boxes: int
    created_at: str
    runs: int


class SnapshotList(Schema):
    snapshots: list[SnapshotOut]


class SnapshotFilter(Request):
    state: PictureState | None = None
    part: Part | None = None
    class_id: int | None = None
    name: str | None = None
    source: str | None = None
    attribute: str | None = None
    tag: str | None = None


class SnapshotIn(Request):
    name: str = Field("", max_length=200)
    note: str = Field("", max_length=5000)
    filter: SnapshotFilter = Field(default_factory=SnapshotFilter)
    class_map: dict[int, int | None] = Field(
        default_factory=dict,
        description="For ids of classes: the class its boxes get, or null to leave them out",
    )
    new_names: dict[int, str] = Field(default_factory=dict, description="Other names in the snapshot")


class SnapshotText(Request):
    name: str = Field("", max_length=200)
    note: str = Field("", max_length=5000)


class SnapshotPath(BaseModel):
    snapshot_id: int


class SnapshotPartOut(Schema):
    part: Part | None
    pictures: int
    boxes: dict[str, int]


class SnapshotDetail(Schema):
    snapshot: SnapshotOut
    classes: list[str]
    parts: list[SnapshotPartOut]


class ComparePath(SnapshotPath):
    other_id: int


class ClassChangesOut(Schema):
    name: str
    added: int
    gone: int
    moved: int
    relabelled: int


class RelabelledOut(Schema):
    before: str
    after: str
    boxes: int


class ComparisonOut(Schema):
    pictures_added: list[str]
    pictures_gone: list[str]
    pictures_changed: list[str]
    other_part: list[str]
    classes: list[ClassChangesOut]
    relabelled: list[RelabelledOut]


class ArchiveIn(Request):
    format: FormatKey = "coco"
    with_pictures: bool = True


class FiguresQuery(BaseModel):
    side: int = Field(416, ge=64, le=4096)
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


class SheetQuery(BaseModel):
    class_id: int
    order: Literal["size", "shape", "brightness", "date", "strange"] = "size"
    falling: bool = False
    start: int = Field(0, ge=0)
    limit: int = Field(200, ge=1, le=500)


class CropOut(Schema):
    id: int
    picture_id: int
    picture_name: str
    class_id: int
    corners: tuple[float, float, float, float]
    value: float


class SheetOut(Schema):
    crops: list[CropOut]
    total: int
    unseen: int


class BoxChange(Request):
    ids: list[int] = Field(max_length=100_000)
    class_id: int | None = Field(description="The class that the boxes get; null deletes them")


class BoxesChanged(Schema):
    changed: int
    change: ChangeOut


class FindingsQuery(BaseModel):
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
    fine: bool


class FindingsOut(Schema):
    listed: list[FindingOut]
    counts: dict[str, int]
    fine: int
    titles: dict[str, str]


class FineIn(Request):
    keys: list[str] = Field(max_length=10_000)
    fine: bool


class Done(Schema):
    done: bool = True


JobOutcome = dict[str, Any]
