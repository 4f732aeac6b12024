"""Schemas of projects, classes, pictures, clips and labels."""

from typing import Literal

from pydantic import BaseModel, Field

from avocet.store.tables import Part, PictureState
from avocet.web.schemas.common import Query, Request, Schema, Selection, Whole
from avocet.web.schemas.labels import LabelsOut
from avocet.work.job_outcomes import FileTaken
from avocet.work.labels.boxes import Origin


class PictureOut(Schema):
    id: int
    name: str
    width: int
    height: int
    state: PictureState
    part: Part | None
    clip_id: int | None
    frame_number: int | None
    boxes: int
    content_hash: str
    source: str
    tags: list[str]
    labelled_at: str | None
    white: float | None = Field(
        None, description="In a picture of more than 8 bits, the value that is read as white"
    )
    proposed: int = Field(0, description="Boxes that a model proposes; in lists only")


class PictureQuery(Query):
    after: Whole = Field(0, ge=0, description="Id of the last picture of the previous page")
    limit: Whole = Field(200, ge=1, le=500)
    state: PictureState | None = None
    part: Part | None = None
    class_id: Whole | None = None
    name: str | None = None
    binned: bool = False
    source: str | None = None
    attribute: str | None = None
    origin: Origin | None = Field(None, description="Only pictures with a box of this origin")
    tag: str | None = None
    unassigned: bool = Field(False, description="Only unassigned pictures")
    order: Literal["added", "name", "boxes", "labelled", "size"] = "added"
    descending: bool = False
    skip: Whole = Field(0, ge=0, description="Pictures to pass over beyond `after`")
    counted: bool = Field(True, description="Also say how many pictures there are in all")


class PicturePage(Schema):
    pictures: list[PictureOut]
    total: int | None
    next_after: int | None


class PictureIds(Schema):
    ids: list[int]


class PicturePath(BaseModel):
    picture_id: Whole


class PictureDetail(Schema):
    picture: PictureOut
    labels: LabelsOut


class UploadOut(Schema):
    files: list[FileTaken]


class PartChange(Selection):
    part: Part | None


class BinChange(Selection):
    binned: bool


class SplitIn(Request):
    training: float = Field(ge=0)
    validation: float = Field(ge=0)
    test: float = Field(ge=0)
    seed: Whole = Field(0, ge=0, lt=2**32)
    whole_sources: bool = Field(True, description="Keep the pictures of each source in one part")


class SplitOut(Schema):
    training: int
    validation: int
    test: int
    unassigned: int
    wholes: int = Field(description="Into how many parts they go with each source and clip kept whole")
    whole_clips: int = Field(description="With each clip kept whole; for more parts than that clips are cut")


class TagChange(Selection):
    tag: str
    on: bool


class ChoicesOut(Schema):
    """What pictures can be filtered by beyond state, part and class."""

    sources: list[str]
    tags: list[str]
    attributes: list[str]


class FolderQuery(Query):
    path: str | None = None


class FolderOut(Schema):
    path: str
    folders: list[str]
    pictures: int


class FolderList(Schema):
    folders: list[FolderOut]


class FolderIn(Request):
    path: str
    copied: bool = True


class BoxesIn(Request):
    boxes: list[tuple[float, float, float, float]] = Field(max_length=500)


class BoxesOut(Schema):
    boxes: list[tuple[float, float, float, float]]


class CropQuery(Query):
    x1: float
    y1: float
    x2: float
    y2: float
