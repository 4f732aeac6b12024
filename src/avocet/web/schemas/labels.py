"""Schemas of attributes, changes, annotation files, snapshots, figures and the audit."""

from typing import Any

from pydantic import Field

from avocet.store.tables import AttributeKind, PictureState
from avocet.web.schemas.common import ProjectPath, Request, Schema, Whole


class AttributeOut(Schema):
    id: int
    name: str
    kind: AttributeKind
    class_id: int | None
    choices: list[str]
    boxes: int


class AttributeList(Schema):
    attributes: list[AttributeOut]
    change_id: int | None = None


class NewAttribute(Request):
    name: str
    kind: AttributeKind
    class_id: Whole | None = None
    choices: list[str] = Field(default_factory=list, max_length=100)


class ChoiceIn(Request):
    value: str
    was: str | None = Field(None, description="What it was called before; none for a new one")


class AttributeChange(Request):
    name: str | None = None
    choices: list[ChoiceIn] | None = Field(
        None, max_length=100, description="All that can be chosen; boxes lose a value that is not taken over"
    )


class AttributePath(ProjectPath):
    attribute_id: Whole


class ChangeOut(Schema):
    id: int
    title: str
    made_at: str
    undone: bool


class ChangeList(Schema):
    changes: list[ChangeOut]


class ChangePath(ProjectPath):
    change_id: Whole


class ClassOut(Schema):
    id: int
    name: str
    colour: str
    position: int
    retired: bool
    boxes: int = Field(description="Boxes of this class in pictures that are not in the bin")


class ClassList(Schema):
    classes: list[ClassOut]
    change_id: int | None = Field(None, description="The change that was made, to take it back by")


class NewClass(Request):
    name: str


class PastedClasses(Request):
    text: str = Field(max_length=200_000, description="One name a line")


class ClassChange(Request):
    name: str | None = None
    colour: str | None = None


class ClassOrder(Request):
    ids: list[Whole] = Field(max_length=1000)


class ClassMerge(Request):
    into_id: Whole


class ClassPath(ProjectPath):
    class_id: Whole


class BoxIn(Request):
    class_id: Whole
    corners: tuple[float, float, float, float] = Field(description="x1, y1, x2, y2 in original pixels")
    crowd: bool = False
    attributes: dict[str, Any] = Field(default_factory=dict)
    track: Whole | None = Field(None, ge=-(2**62), le=2**62)
    origin: str | None = Field(
        None, description="`hand` (as none), `carried`, `imported`, or the model that proposed it"
    )


class LabelsIn(Request):
    revision: Whole
    state: PictureState
    boxes: list[BoxIn]
    worked: float = Field(
        0.0, ge=0, le=86_400, description="Seconds that somebody worked on it since it was saved last"
    )


class BoxOut(Schema):
    class_id: int
    corners: tuple[float, float, float, float]
    crowd: bool
    attributes: dict[str, Any]
    track: int | None
    origin: str | None = None


class LabelsOut(Schema):
    revision: int
    state: PictureState
    boxes: list[BoxOut]
