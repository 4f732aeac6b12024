"""A snapshot's labels as columns, kept beside it: whoever looks ahead at a run does not read the whole file."""

import io
from typing import Any

import numpy as np

from avocet.files import write_bytes
from avocet.store.folder import DataFolder
from avocet.store.tables import Snapshot
from avocet.work.labels.columns import PARTS, LabelColumns
from avocet.work.snapshots.frozen import Frozen, ignored_boxes

FIELDS = ("picture_ids", "sizes", "part", "owner", "class_ids", "corners", "crowd", "ignored")


def frozen_columns(frozen: Frozen) -> LabelColumns:
    """What a snapshot holds as columns; ``class_ids`` are places among its classes."""
    pictures = frozen.pictures
    rows = [(place, *box) for place, picture in enumerate(pictures) for box in picture.boxes]
    table = np.array(rows, dtype=np.float64).reshape(-1, 7)
    ignored = [ignored_boxes(picture) for picture in pictures]
    return _completed(
        picture_ids=np.array([each.id for each in pictures], np.int64),
        sizes=np.array([(each.width, each.height) for each in pictures], np.float64).reshape(-1, 2),
        part=np.array([PARTS.index(each.part) for each in pictures], np.int8),
        owner=table[:, 0].astype(np.int64),
        class_ids=table[:, 1].astype(np.int64),
        corners=np.ascontiguousarray(table[:, 2:6]),
        crowd=table[:, 6].astype(bool),
        ignored=np.concatenate([np.zeros(0, bool), *ignored]),
    )


def keep_columns(folder: DataFolder, project_id: int, digest: str, columns: LabelColumns) -> None:
    """Write a snapshot's columns beside its file."""
    content = io.BytesIO()
    np.savez(content, **{name: getattr(columns, name) for name in FIELDS})
    write_bytes(folder.snapshot_columns(project_id, digest), content.getvalue())


def kept_columns(folder: DataFolder, snapshot: Snapshot) -> LabelColumns | None:
    """What was kept, or None for a snapshot of an earlier version."""
    path = folder.snapshot_columns(snapshot.project_id, snapshot.content_hash)
    if not path.is_file():
        return None
    with np.load(path, allow_pickle=False) as kept:
        if not set(FIELDS) <= set(kept.files):
            return None
        return _completed(**{name: kept[name] for name in FIELDS})


def _completed(**kept: Any) -> LabelColumns:
    """With what a snapshot does not number: every picture is labelled, boxes count from 0, tracks are left out."""
    boxes = len(kept["owner"])
    return LabelColumns(
        state=np.zeros(len(kept["picture_ids"]), np.int8),
        revisions=np.zeros(len(kept["picture_ids"]), np.int64),
        box_ids=np.arange(boxes),
        track=np.zeros(boxes, bool),
        **kept,
    )
