"""The labels as a run gets them: labelled pictures only, boxes numbered by the place of their class."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from avocet.core.boxes import Array
from avocet.core.raw.letterbox import letterbox
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, Snapshot
from avocet.work.labels.classes import list_classes
from avocet.work.labels.columns import LabelColumns
from avocet.work.snapshots.frozen import Frozen
from avocet.work.snapshots.frozen_columns import frozen_columns, keep_columns, kept_columns
from avocet.work.snapshots.snapshots import read_snapshot, read_summary


@dataclass(frozen=True)
class RunLabels:
    """Labels that a run would learn from.

    Attributes
    ----------
    names : list of str
        Classes that are in use.
    columns : LabelColumns
        Labelled pictures; ``class_ids`` are places in ``names``.
    """

    names: list[str]
    columns: LabelColumns

    def boxes_in(self, part: Part | None) -> NDArray[np.bool_]:
        """Which boxes lie in pictures of a part."""
        return self.columns.in_part(part)[self.columns.owner]

    def pictures_in(self, part: Part | None) -> int:
        """How many labelled pictures a part has."""
        return int(self.columns.in_part(part).sum())

    def counts(self, part: Part | None) -> NDArray[np.int64]:
        """Boxes of each class in a part."""
        return np.bincount(self.columns.class_ids[self.boxes_in(part)], minlength=len(self.names))

    def own_side(self) -> int:
        """The longer side of the pictures in pixels, the median; 0 without pictures."""
        sizes = self.columns.sizes
        return int(np.median(sizes.max(axis=1))) if len(sizes) else 0

    def learnt_sizes(self, side: int | None = None) -> tuple[Array, NDArray[np.int64]]:
        """Widths and heights of the training boxes that are learnt, and their classes.

        Before pictures are split, when the training part holds none, of all labelled pictures: what
        they are to be split from tells which side and anchors will suit.

        As `avocet.detector.targets.anchors.input_sizes` has them of the pictures: crowds and boxes
        marked to be ignored are left out.

        In input pixels of ``side``; without it as shares of the picture's longer side, to be scaled
        later.
        """
        columns = self.columns
        usable = ~columns.crowd & ~columns.ignored
        learnt = self.boxes_in(Part.TRAINING) & usable
        if not learnt.any():
            learnt = usable
        corners, owner = columns.corners[learnt], columns.owner[learnt]
        sizes = corners[:, 2:] - corners[:, :2]
        if side is None:
            return sizes / columns.sizes.max(axis=1)[owner, None], columns.class_ids[learnt]
        distinct, which = np.unique(columns.sizes, axis=0, return_inverse=True)
        scales = [_scale(int(width), int(height), side) for width, height in distinct]
        return sizes * np.array(scales).reshape(-1, 2)[which.reshape(-1)[owner]], columns.class_ids[learnt]


def labels_of_project(session: Session, project_id: int, columns: LabelColumns) -> RunLabels:
    """What a run started now would learn from; boxes of retired classes are left out."""
    active = list_classes(session, project_id)
    place = np.full(1 + max((each.id for each in active), default=0), -1, np.int64)
    for number, each in enumerate(active):
        place[each.id] = number
    labelled = columns.of_pictures(columns.labelled)
    known = labelled.class_ids < len(place)
    numbers = np.where(known, place[np.where(known, labelled.class_ids, 0)], -1)
    return RunLabels([each.name for each in active], _only(labelled, numbers >= 0, numbers))


def labels_of_snapshot(frozen: Frozen) -> RunLabels:
    """What a run on a snapshot learns from."""
    return RunLabels(list(frozen.classes), frozen_columns(frozen))


def labels_beside(folder: DataFolder, snapshot: Snapshot) -> RunLabels:
    """The same from what lies beside the snapshot. One of an earlier version is read whole, the first time."""
    columns = kept_columns(folder, snapshot)
    if columns is None:
        columns = frozen_columns(read_snapshot(folder, snapshot))
        keep_columns(folder, snapshot.project_id, snapshot.content_hash, columns)
    return RunLabels(read_summary(folder, snapshot).classes, columns)


def _only(columns: LabelColumns, boxes: NDArray[np.bool_], class_ids: NDArray[np.int64]) -> LabelColumns:
    if boxes.all():
        return replace(columns, class_ids=class_ids)
    return replace(
        columns,
        owner=columns.owner[boxes],
        box_ids=columns.box_ids[boxes],
        class_ids=class_ids[boxes],
        corners=columns.corners[boxes],
        crowd=columns.crowd[boxes],
        ignored=columns.ignored[boxes],
        track=columns.track[boxes],
    )


def _scale(width: int, height: int, side: int) -> tuple[float, float]:
    box = letterbox(width, height, side)
    return box.scale_x, box.scale_y
