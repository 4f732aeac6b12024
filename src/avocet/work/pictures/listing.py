"""Which pictures there are: filters, order, pages."""

import datetime as dt
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal, NamedTuple

from sqlalchemy import ColumnElement, String, func, select, tuple_, type_coerce
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.rows import among, without_index
from avocet.store.tables import Box, Part, Picture, PictureState, PictureTag
from avocet.work.labels.attributes import has
from avocet.work.labels.boxes import Origin, of_origin

MANY = 5000
"""Boxes from which on a class counts as frequent where its pictures are listed."""

Order = Literal["added", "name", "boxes", "labelled", "size"]


@dataclass(frozen=True)
class Filter:
    """Which pictures to list; None means any.

    Attributes
    ----------
    unassigned : bool
        Only pictures in no part.
    source : str
        A clip, archive or folder that pictures came from.
    """

    state: PictureState | None = None
    part: Part | None = None
    class_id: int | None = None
    name: str | None = None
    binned: bool = False
    source: str | None = None
    attribute: str | None = None
    origin: Origin | None = None
    tag: str | None = None
    unassigned: bool = False


class Listed(NamedTuple):
    """What a list says of a picture."""

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
    labelled_at: dt.datetime | None
    white: float | None
    tags: list[str]


def list_pictures(
    session: Session,
    project_id: int,
    wanted: Filter,
    after: int = 0,
    limit: int = 200,
    order: Order = "added",
    descending: bool = False,
    skip: int = 0,
) -> list[Listed]:
    """A page of pictures, read as columns: to make a record of each takes three times as long.

    Parameters
    ----------
    session : Session
    project_id : int
    wanted : Filter
    after : int
        Id of the last picture of the page before; 0 for the first page.
    limit : int
    order : {'added', 'name', 'boxes', 'labelled', 'size'}
    descending : bool
    skip : int
        Pictures to pass over beyond ``after``, to jump into the midst.
    """
    chosen = conditions(project_id, wanted, looked_up=_is_frequent(session, wanted.class_id))
    query = select(*_LISTED).where(*chosen)
    column = _COLUMNS[order]
    if after:
        if session.get(Picture, after) is None:
            raise InputError(f"there is no picture {after} to go on from")
        key, here = tuple_(column, Picture.id), _value(session, column, after)
        query = query.where(key < (here, after) if descending else key > (here, after))
    keys = (column.desc(), Picture.id.desc()) if descending else (column, Picture.id)
    rows = session.execute(query.order_by(*keys).offset(skip).limit(limit)).all()
    tags = _tags_of(session, [row[0] for row in rows])
    return [Listed._make((*row, tags.get(row[0], []))) for row in rows]


def _tags_of(session: Session, ids: Sequence[int]) -> dict[int, list[str]]:
    """The tags of those pictures that have any."""
    tags: dict[int, list[str]] = defaultdict(list)
    query = select(PictureTag.picture_id, PictureTag.tag).where(among(PictureTag.picture_id, ids))
    for picture_id, tag in session.execute(query.order_by(PictureTag.tag)):
        tags[picture_id].append(tag)
    return tags


def count_pictures(session: Session, project_id: int, wanted: Filter) -> int:
    """How many pictures a filter leaves."""
    return session.scalar(select(func.count(Picture.id)).where(*conditions(project_id, wanted))) or 0


def picture_ids(
    session: Session, project_id: int, wanted: Filter, order: Order = "added", descending: bool = False
) -> list[int]:
    """Ids of all pictures a filter leaves, in order: what next and previous walk along."""
    column = _COLUMNS[order]
    keys = (column.desc(), Picture.id.desc()) if descending else (column, Picture.id)
    return list(session.scalars(select(Picture.id).where(*conditions(project_id, wanted)).order_by(*keys)))


def list_sources(session: Session, project_id: int) -> list[str]:
    """Clips, archives and folders that pictures came from."""
    query = select(Picture.source).where(Picture.project_id == project_id, Picture.source != "").distinct()
    return list(session.scalars(query.order_by(Picture.source)))


def list_tags(session: Session, project_id: int) -> list[str]:
    """All tags on pictures of the project."""
    query = select(PictureTag.tag).join(Picture).where(Picture.project_id == project_id).distinct()
    return list(session.scalars(query.order_by(PictureTag.tag)))


_LISTED = tuple(
    getattr(Picture, "box_count" if name == "boxes" else name) for name in Listed._fields if name != "tags"
)

_COLUMNS: dict[str, Any] = {
    "added": Picture.id,
    "name": Picture.name,
    "boxes": Picture.box_count,
    "labelled": func.coalesce(type_coerce(Picture.labelled_at, String), ""),
    "size": Picture.width * Picture.height,
}


def _value(session: Session, column: Any, picture_id: int) -> Any:
    return session.scalar(select(column).where(Picture.id == picture_id))


def _is_frequent(session: Session, class_id: int | None) -> bool:
    """Whether a class has so many boxes that nobody lists all its pictures to show some of them."""
    if class_id is None:
        return False
    return session.scalar(select(Box.id).where(Box.class_id == class_id).offset(MANY).limit(1)) is not None


def conditions(project_id: int, wanted: Filter, looked_up: bool = False) -> list[ColumnElement[bool]]:
    """A filter as conditions of a query for pictures.

    Where a page of a frequent class is wanted, its boxes are better ``looked_up`` picture by picture
    than gathered beforehand; of a rare one that would go through the whole project.
    """
    conditions: list[ColumnElement[bool]] = [
        Picture.project_id == project_id,
        Picture.binned_at.is_not(None) if wanted.binned else Picture.binned_at.is_(None),
    ]
    if wanted.state is not None:
        conditions.append(Picture.state == wanted.state)
    if wanted.part is not None:
        conditions.append(Picture.part == wanted.part)
    if wanted.unassigned:
        conditions.append(Picture.part.is_(None))
    if wanted.class_id is not None and looked_up:
        of_class = (Box.picture_id == Picture.id, without_index(Box.class_id) == wanted.class_id)
        conditions.append(select(Box.id).where(*of_class).exists())
    elif wanted.class_id is not None:
        conditions.append(Picture.id.in_(select(Box.picture_id).where(Box.class_id == wanted.class_id)))
    if wanted.name:
        conditions.append(Picture.name.contains(wanted.name, autoescape=True))
    if wanted.source:
        conditions.append(Picture.source == wanted.source)
    if wanted.origin:
        conditions.append(Picture.id.in_(select(Box.picture_id).where(of_origin(wanted.origin))))
    if wanted.attribute:
        conditions.append(Picture.id.in_(select(Box.picture_id).where(has(wanted.attribute))))
    if wanted.tag:
        conditions.append(Picture.id.in_(select(PictureTag.picture_id).where(PictureTag.tag == wanted.tag)))
    return conditions
