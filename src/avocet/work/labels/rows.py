"""All labels of many pictures, for freezing and exporting: plain rows, no objects of the database."""

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, select
from sqlalchemy.orm import Session

from avocet.store.rows import plain_rows
from avocet.store.tables import Box, Part, Picture, PictureState


class BoxRow(NamedTuple):
    """A box as it is labelled, corners in original pixels."""

    class_id: int
    x1: float
    y1: float
    x2: float
    y2: float
    crowd: bool
    attributes: dict[str, Any]
    track: int | None

    @property
    def corners(self) -> tuple[float, float, float, float]:
        return self.x1, self.y1, self.x2, self.y2


@dataclass(slots=True)
class PictureRow:
    """A picture with its boxes in their order."""

    id: int
    name: str
    content_hash: str
    suffix: str
    width: int
    height: int
    part: Part | None
    state: PictureState
    path: str | None
    boxes: list[BoxRow] = field(default_factory=list)


def picture_rows(
    session: Session, wanted: Sequence[ColumnElement[bool]], order: Any = Picture.id
) -> list[PictureRow]:
    """The pictures that meet all conditions, with their boxes."""
    columns = (
        Picture.id, Picture.name, Picture.content_hash, Picture.suffix, Picture.width, Picture.height,
        Picture.part, Picture.state, Picture.path,
    )  # fmt: skip
    parts = {each.value: each for each in Part}
    found = [
        PictureRow(
            row[0], row[1], row[2], row[3], row[4], row[5], parts.get(row[6]), PictureState(row[7]), row[8]
        )
        for some in plain_rows(session, select(*columns).where(*wanted).order_by(order))
        for row in some
    ]
    by_id = {picture.id: picture for picture in found}
    query = (
        select(
            Box.picture_id, Box.class_id, Box.x1, Box.y1, Box.x2, Box.y2, Box.crowd, Box.attributes, Box.track
        )
        .where(Box.picture_id.in_(select(Picture.id).where(*wanted)))
        .order_by(Box.picture_id, Box.position)
    )
    for some in plain_rows(session, query):
        for picture_id, class_id, x1, y1, x2, y2, crowd, attributes, track in some:
            held = json.loads(attributes) if attributes != "{}" else {}
            by_id[picture_id].boxes.append(BoxRow(class_id, x1, y1, x2, y2, bool(crowd), held, track))
    return found
