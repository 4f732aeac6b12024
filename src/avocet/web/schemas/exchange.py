"""Schemas of annotation files in and out."""

from typing import Literal

from pydantic import Field

from avocet.web.schemas.common import Query, Request, Schema, Whole

FormatKey = Literal["coco", "voc", "centre-text", "csv", "json-lines"]


class ColumnsIn(Request):
    """Which column of a CSV file holds what."""

    picture: str
    label: str = ""
    kind: Literal["corners", "corner and size", "bracketed"]
    values: list[str] = Field(min_length=1, max_length=4)
    fractions: bool = Field(False, description="Boxes are in fractions of their picture, not in pixels")


class ReadAgain(Request):
    format: FormatKey | None = None
    columns: ColumnsIn | None = None
    corners: bool | None = Field(
        None, description="Whether boxes of a COCO file are corners, x1, y1, x2, y2, against the format"
    )


class TakeIn(Request):
    targets: dict[str, Whole | str] = Field(
        default_factory=dict,
        description="For names of classes in the file: a class id here, a new name, or '' to leave its boxes out",
    )
    replace: bool = Field(False, description="Replace the labels of pictures that have some")


class LossQuery(Query):
    format: FormatKey = "coco"


class ExportIn(Request):
    format: FormatKey = "coco"
    kind: Literal["corners", "corner and size", "bracketed"] = Field(
        "corners", description="For CSV: how a box is written"
    )


class LossOut(Schema):
    pictures: int
    boxes: int
    lost: list[str]


class FormatOut(Schema):
    key: str
    name: str
    suffixes: list[str]
    many_files: bool
    example: str = Field(description="What a box looks like in it")


class FormatList(Schema):
    formats: list[FormatOut]
