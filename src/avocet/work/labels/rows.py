"""Labels of many pictures as plain rows, no objects of the database: to be frozen, exported or changed."""

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import ColumnElement, select
from sqlalchemy.orm import Session

from avocet.store.rows import plain_rows
from avocet.store.tables import Box, Part, Picture, PictureState
from avocet.work.labels.boxes import NewBox, labels_record


@dataclass(slots=True)
class PictureRow:
    """A picture with its boxes in their order. ``box_ids`` are theirs in the database."""

    id: int
    name: str
    content_hash: str
    suffix: str
    width: int
    height: int
    part: Part | None
    state: PictureState
    revision: int
    path: str | None
    white: float | None = None
    boxes: list[NewBox] = field(default_factory=list)
    box_ids: list[int] = field(default_factory=list)

    def record(self) -> dict[str, Any]:
        """Its labels as `avocet.work.labels.boxes.labels_of` gives them."""
        return labels_record(self.revision, self.state, self.boxes)


def picture_rows(
    session: Session, wanted: Sequence[ColumnElement[bool]], order: Any = Picture.id
) -> list[PictureRow]:
    """The pictures that meet all conditions, with their boxes."""
    columns = (
        Picture.id, Picture.name, Picture.content_hash, Picture.suffix, Picture.width, Picture.height,
        Picture.part, Picture.state, Picture.revision, Picture.path, Picture.white,
    )  # fmt: skip
    parts = {each.value: each for each in Part}
    states = {each.value: each for each in PictureState}
    found = [
        PictureRow(
            number, name, digest, suffix, width, height, parts.get(part), states[state], revision, path, white
        )
        for some in plain_rows(session, select(*columns).where(*wanted).order_by(order))
        for number, name, digest, suffix, width, height, part, state, revision, path, white in some
    ]
    by_id = {picture.id: picture for picture in found}
    query = (
        select(
            Box.picture_id, Box.id, Box.class_id, Box.x1, Box.y1, Box.x2, Box.y2, Box.crowd, Box.attributes,
            Box.track, Box.origin,
        )
        .where(Box.picture_id.in_(select(Picture.id).where(*wanted)))
        .order_by(Box.picture_id, Box.position)
    )  # fmt: skip
    for some in plain_rows(session, query):
        for picture_id, box_id, class_id, x1, y1, x2, y2, crowd, attributes, track, origin in some:
            held = json.loads(attributes) if attributes != "{}" else {}
            picture = by_id[picture_id]
            picture.boxes.append(NewBox(class_id, (x1, y1, x2, y2), bool(crowd), held, track, origin))
            picture.box_ids.append(box_id)
    return found
