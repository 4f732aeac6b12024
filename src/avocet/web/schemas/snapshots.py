"""Schemas of snapshots."""

from pydantic import BaseModel, Field

from avocet.store.tables import Part, PictureState
from avocet.web.schemas.common import Request, Schema, Whole
from avocet.web.schemas.exchange import FormatKey
from avocet.work.snapshots.frozen import PartSummary


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
    class_id: Whole | None = None
    name: str | None = None
    source: str | None = None
    attribute: str | None = None
    tag: str | None = None


class SnapshotIn(Request):
    name: str = Field("", max_length=200)
    note: str = Field("", max_length=5000)
    filter: SnapshotFilter = Field(default_factory=SnapshotFilter)
    class_map: dict[Whole, Whole | None] = Field(
        default_factory=dict,
        description="For ids of classes: the class its boxes get, or null to leave them out",
    )
    new_names: dict[Whole, str] = Field(default_factory=dict, description="Other names in the snapshot")
    clips: list[Whole] = Field(
        default_factory=list,
        max_length=1000,
        description="Of these only the chosen frames count; such as are labelled as objects give their frames",
    )


class SnapshotText(Request):
    name: str = Field("", max_length=200)
    note: str = Field("", max_length=5000)


class SnapshotPath(BaseModel):
    snapshot_id: Whole


class SnapshotDetail(Schema):
    snapshot: SnapshotOut
    classes: list[str]
    parts: list[PartSummary]


class SnapshotPairPath(SnapshotPath):
    other_id: Whole


class ArchiveIn(Request):
    format: FormatKey = "coco"
    with_pictures: bool = True
