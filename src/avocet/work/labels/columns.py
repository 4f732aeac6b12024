"""All labels of a project as columns: read in one go, and kept up to date by what changed since.

Objects of the database are for working on one picture. Whoever looks at all of them reads columns:
600,000 boxes are twenty megabytes and a second or two, and afterwards only what changed is read.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.boxes import Array
from avocet.formats.record import IGNORE
from avocet.store.rows import among, plain_rows
from avocet.store.tables import Box, Part, Picture, PictureState, Project
from avocet.work.labels.states import LABELLED
from avocet.work.problems import NotFound

PARTS: tuple[Part | None, ...] = (Part.TRAINING, Part.VALIDATION, Part.TEST, None)
"""In this order the columns number them."""

STATES = tuple(PictureState)


@dataclass(frozen=True)
class LabelColumns:
    """Pictures that are not in the bin, and their boxes.

    Attributes
    ----------
    picture_ids : (P,) ndarray of int64
        Rising.
    sizes : (P, 2) ndarray of float64
        Width and height in original pixels.
    part, state : (P,) ndarray of int8
        Places in `PARTS` and `STATES`.
    revisions : (P,) ndarray of int64
        Of each picture's labels; 0 in a snapshot.
    owner : (N,) ndarray of int64
        For each box the place of its picture; not falling.
    box_ids, class_ids : (N,) ndarray of int64
    corners : (N, 4) ndarray of float64
        ``[x1, y1, x2, y2]`` in original pixels.
    crowd, ignored : (N,) ndarray of bool
        Regions of many objects, and boxes that a person marked to be ignored.
    track : (N,) ndarray of bool
        Whether the box has a track number.
    stamp : int
        The project's when they were read; 0 for a snapshot's.
    """

    picture_ids: NDArray[np.int64]
    sizes: Array
    part: NDArray[np.int8]
    state: NDArray[np.int8]
    revisions: NDArray[np.int64]
    owner: NDArray[np.int64]
    box_ids: NDArray[np.int64]
    class_ids: NDArray[np.int64]
    corners: Array
    crowd: NDArray[np.bool_]
    ignored: NDArray[np.bool_]
    track: NDArray[np.bool_]
    stamp: int = 0

    @property
    def labelled(self) -> NDArray[np.bool_]:
        """Which pictures count as labelled."""
        return np.isin(self.state, [STATES.index(each) for each in LABELLED])

    def in_state(self, state: PictureState) -> NDArray[np.bool_]:
        """Which pictures are in a state."""
        there: NDArray[np.bool_] = self.state == STATES.index(state)
        return there

    def in_part(self, part: Part | None) -> NDArray[np.bool_]:
        """Which pictures are in a part, or in none."""
        there: NDArray[np.bool_] = self.part == PARTS.index(part)
        return there

    def of_pictures(self, chosen: NDArray[np.bool_]) -> "LabelColumns":
        """Only some pictures with their boxes; of all of them nothing is copied."""
        if chosen.all():
            return self
        boxes = chosen[self.owner]
        place = np.cumsum(chosen) - 1
        return LabelColumns(
            self.picture_ids[chosen], self.sizes[chosen], self.part[chosen], self.state[chosen],
            self.revisions[chosen], place[self.owner[boxes]], self.box_ids[boxes], self.class_ids[boxes], self.corners[boxes],
            self.crowd[boxes], self.ignored[boxes], self.track[boxes], self.stamp,
        )  # fmt: skip


def read_columns(session: Session, project_id: int) -> LabelColumns:
    """All labels of a project. Raises `NotFound` where there is no such project."""
    stamp = project_stamp(session, project_id)
    pictures = _pictures(session, project_id, [Picture.binned_at.is_(None)])
    boxes = _boxes(session, [Picture.project_id == project_id, Picture.binned_at.is_(None)])
    return _assembled(pictures, boxes, stamp)


def brought_up_to_date(session: Session, project_id: int, before: LabelColumns) -> LabelColumns:
    """The same columns with what changed since they were read.

    Boxes are read anew only where the labels have another revision: a split of many pictures
    touches none.
    """
    stamp = project_stamp(session, project_id)
    if stamp == before.stamp:
        return before
    since = [Picture.stamp > before.stamp]
    changed = np.array(
        session.scalars(select(Picture.id).where(Picture.project_id == project_id, *since)).all(), np.int64
    )
    there = session.scalar(
        select(func.count(Picture.id)).where(Picture.project_id == project_id, Picture.binned_at.is_(None))
    )
    stay = ~np.isin(before.picture_ids, changed)
    pictures = _pictures(session, project_id, [Picture.binned_at.is_(None), *since])
    if int(stay.sum()) + len(pictures) != there:
        # Pictures were deleted for good; nothing is left of them to say so.
        return read_columns(session, project_id)
    ids = pictures[:, 0].astype(np.int64)
    same = _revisions(before, ids) == pictures[:, -1]
    if same.all() and there == len(before.picture_ids):
        # The same pictures with the same boxes, filed otherwise.
        table = np.vstack([_picture_table(before)[stay], pictures])
        return replace(before, **_picture_columns(table), stamp=stamp)
    boxes = _boxes(session, [among(Picture.id, ids[~same].tolist())])
    old = _picture_table(before.of_pictures(stay))
    old_boxes = _box_table(before.of_pictures(stay | np.isin(before.picture_ids, ids[same])))
    return _assembled(np.vstack([old, pictures]), np.vstack([old_boxes, boxes]), stamp)


def _revisions(columns: LabelColumns, ids: NDArray[np.int64]) -> NDArray[np.int64]:
    """The revisions of pictures, -1 where they are not among the columns."""
    place = np.searchsorted(columns.picture_ids, ids)
    place[place == len(columns.picture_ids)] = 0
    if not len(columns.picture_ids):
        return np.full(len(ids), -1)
    return np.where(columns.picture_ids[place] == ids, columns.revisions[place], -1)


def project_stamp(session: Session, project_id: int) -> int:
    """The project's stamp, or `NotFound`."""
    stamp = session.scalar(select(Project.stamp).where(Project.id == project_id))
    if stamp is None:
        raise NotFound(f"there is no project {project_id}")
    return stamp


def _pictures(session: Session, project_id: int, wanted: Sequence[Any]) -> Array:
    """Pictures as a table of numbers, see `_picture_table`."""
    query = select(Picture.id, Picture.width, Picture.height, Picture.part, Picture.state, Picture.revision)
    part_of = {each.value if each else None: float(place) for place, each in enumerate(PARTS)}
    state_of = {each.value: float(place) for place, each in enumerate(STATES)}
    rows = [
        (number, width, height, part_of[part], state_of[state], revision)
        for some in plain_rows(session, query.where(Picture.project_id == project_id, *wanted))
        for number, width, height, part, state, revision in some
    ]
    return np.array(rows, dtype=np.float64).reshape(-1, 6)


def _boxes(session: Session, wanted: Sequence[Any]) -> Array:
    """The boxes of pictures, of each in order, as a table of numbers, see `_box_table`."""
    pictures = select(Picture.id).where(*wanted)
    query = select(
        Box.picture_id, Box.id, Box.class_id, Box.x1, Box.y1, Box.x2, Box.y2, Box.crowd,
        func.coalesce(func.json_extract(Box.attributes, f'$."{IGNORE}"') == 1, 0), Box.track.is_not(None),
    )  # fmt: skip
    query = query.where(Box.picture_id.in_(pictures)).order_by(Box.picture_id, Box.position)
    chunks = [np.array(some, dtype=np.float64) for some in plain_rows(session, query)]
    return np.concatenate(chunks) if chunks else np.zeros((0, 10))


def _picture_table(columns: LabelColumns) -> Array:
    """Id, width, height, part, state, revision."""
    return np.column_stack(
        [columns.picture_ids, columns.sizes, columns.part, columns.state, columns.revisions]
    ).astype(np.float64)


def _box_table(columns: LabelColumns) -> Array:
    """Picture id, box id, class id, corners, crowd, ignored, has a track."""
    return np.column_stack(
        [
            columns.picture_ids[columns.owner], columns.box_ids, columns.class_ids, columns.corners,
            columns.crowd, columns.ignored, columns.track,
        ]
    ).astype(np.float64)  # fmt: skip


def _picture_columns(pictures: Array) -> dict[str, Any]:
    """What a table of pictures gives of `LabelColumns`, in the order of their ids."""
    pictures = pictures[np.argsort(pictures[:, 0], kind="stable")]
    return {
        "picture_ids": pictures[:, 0].astype(np.int64),
        "sizes": pictures[:, 1:3],
        "part": pictures[:, 3].astype(np.int8),
        "state": pictures[:, 4].astype(np.int8),
        "revisions": pictures[:, 5].astype(np.int64),
    }


def _assembled(pictures: Array, boxes: Array, stamp: int) -> LabelColumns:
    columns = _picture_columns(pictures)
    owner = np.searchsorted(columns["picture_ids"], boxes[:, 0].astype(np.int64))
    rank = np.argsort(owner, kind="stable")
    boxes, owner = boxes[rank], owner[rank]
    return LabelColumns(
        **columns,
        owner=owner,
        box_ids=boxes[:, 1].astype(np.int64),
        class_ids=boxes[:, 2].astype(np.int64),
        corners=np.ascontiguousarray(boxes[:, 3:7]),
        crowd=boxes[:, 7].astype(bool),
        ignored=boxes[:, 8].astype(bool),
        track=boxes[:, 9].astype(bool),
        stamp=stamp,
    )
