"""Labels of very many pictures changed as one change: read beforehand, written in short steps.

A step is a transaction of a few hundred pictures, so that a person who saves one picture meanwhile
waits for a moment only. Rows go in and out as rows; objects of the database are for one picture.
"""

import json
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Literal, cast

from sqlalchemy import Table, bindparam, delete, select, update
from sqlalchemy.dialects.sqlite import insert as insert_or
from sqlalchemy.orm import Session

from avocet.store.database import Sessions, reading
from avocet.store.rows import among, insert_rows, quietly
from avocet.store.tables import Box, ChangedPicture, Part, Picture, PictureState, now
from avocet.work.labels.boxes import NewBox, labels_record, state_with
from avocet.work.labels.changes import digest
from avocet.work.labels.rows import PictureRow, picture_rows
from avocet.work.progress import SILENT, STEP, Reporter, in_portions

AT_ONCE = 250
"""Pictures written in one transaction."""


BOX_COLUMNS = (
    "picture_id", "class_id", "position", "x1", "y1", "x2", "y2", "crowd", "attributes", "track", "origin",
)  # fmt: skip

AS_IT_IS: Literal["as it is"] = "as it is"


@dataclass(slots=True)
class Rewritten:
    """What a picture gets instead, its boxes checked as `usable_boxes` does; the part where it is named."""

    boxes: Sequence[NewBox]
    state: PictureState
    part: Part | Literal["as it is"] | None = AS_IT_IS


Edit = Callable[[PictureRow], Rewritten | None]
"""What a picture gets instead of its labels; None leaves it as it is."""


def change_labels(
    sessions: Sessions, change_id: int, picture_ids: Sequence[int], edit: Edit, reporter: Reporter = SILENT
) -> int:
    """Give many pictures other labels, recorded with a change that is committed already.

    Parameters
    ----------
    sessions : sessionmaker
    change_id : int
    picture_ids : sequence of int
    edit : callable
        Gets each picture's labels as they are when they are written: whoever saves in between is
        not overwritten, the edit is made anew on what was saved.
    reporter : Reporter

    Returns
    -------
    int
        Pictures that were changed.

    Raises
    ------
    Stopped
        Where a person asked for it. What is written stays; the change undoes it.
    """
    changed = 0
    for some in label_portions(picture_ids, reporter):
        left: Sequence[int] = some
        while left:
            with reading(sessions)() as session:
                before = picture_rows(session, [among(Picture.id, left)])
            planned = [(labels, edited) for labels in before if (edited := edit(labels)) is not None]
            with sessions.begin() as session:
                stale = write_labels(session, change_id, planned)
            changed += len(planned) - len(stale)
            left = stale
    return changed


def label_portions(picture_ids: Sequence[int], reporter: Reporter) -> Iterator[Sequence[int]]:
    """Portions of pictures whose labels are read and then written.

    Nobody has to wait while they are read: a step may take twice as long, and needs no pause after it.
    """
    return in_portions(picture_ids, AT_ONCE, reporter, step=2 * STEP, pause=0)


def write_labels(
    session: Session, change_id: int | None, planned: Sequence[tuple[PictureRow, Rewritten]]
) -> list[int]:
    """Write labels as part of a transaction, with how they were before where a change is named.

    Returns the pictures that were saved since they were read, which are left as they are.
    """
    ids = [labels.id for labels, _ in planned]
    query = select(Picture.id, Picture.revision).where(among(Picture.id, ids))
    revisions = {number: revision for number, revision in session.execute(query)}
    fresh = [each for each in planned if revisions.get(each[0].id) == each[0].revision]
    if fresh:
        _write_boxes(session, fresh)
        _write_pictures(session, fresh)
        if change_id is not None:
            _record(session, change_id, fresh)
    # A picture that was deleted for good is neither fresh nor to be tried again.
    there = {labels.id for labels, _ in fresh}
    return [number for number in revisions if number not in there]


def _write_boxes(session: Session, planned: Sequence[tuple[PictureRow, Rewritten]]) -> None:
    """Boxes that only get another class keep their row; of other pictures all rows are written anew."""
    turned: dict[int, list[int]] = defaultdict(list)
    anew: list[tuple[PictureRow, Rewritten]] = []
    for labels, after in planned:
        if _only_classes_differ(labels.boxes, after.boxes):
            for box_id, old, new in zip(labels.box_ids, labels.boxes, after.boxes, strict=True):
                if old.class_id != new.class_id:
                    turned[new.class_id].append(box_id)
        else:
            anew.append((labels, after))
    for class_id, ids in turned.items():
        statement = update(Box).where(among(Box.id, ids)).values(class_id=class_id)
        session.execute(quietly(statement))
    if not anew:
        return
    held = [labels.id for labels, _ in anew if labels.boxes]
    if held:
        session.execute(delete(Box).where(among(Box.picture_id, held)))
    rows = [
        (
            labels.id, box.class_id, place, *box.corners, int(box.crowd),
            json.dumps(box.attributes) if box.attributes else "{}", box.track, box.origin,
        )
        for labels, after in anew
        for place, box in enumerate(after.boxes, start=1)
    ]  # fmt: skip
    if rows:
        insert_rows(session, Box, BOX_COLUMNS, rows)


def _only_classes_differ(before: Sequence[NewBox], after: Sequence[NewBox]) -> bool:
    return len(before) == len(after) and all(
        old.corners == new.corners
        and old.crowd == new.crowd
        and old.track == new.track
        and old.attributes == new.attributes
        and old.origin == new.origin
        for old, new in zip(before, after, strict=True)
    )


def _write_pictures(session: Session, planned: Sequence[tuple[PictureRow, Rewritten]]) -> None:
    at = now()
    rows = [
        {
            "picture": labels.id, "revision": labels.revision + 1, "state": after.state,
            "box_count": len(after.boxes),
            "labelled_at": at if after.state != PictureState.UNLABELLED else None,
        }
        for labels, after in planned
    ]  # fmt: skip
    # Past the mapped class: its own way of updating rows takes longer than writing them.
    table = cast("Table", Picture.__table__)
    session.execute(update(table).where(table.c.id == bindparam("picture")), rows)
    parts = [{"id": labels.id, "part": after.part} for labels, after in planned if after.part != AS_IT_IS]
    if parts:
        session.execute(update(Picture), parts)


def _record(session: Session, change_id: int, planned: Sequence[tuple[PictureRow, Rewritten]]) -> None:
    """Remember what was there. Of a picture that one change meets twice, what it met last."""
    statement = insert_or(ChangedPicture)
    statement = statement.on_conflict_do_update(
        index_elements=[ChangedPicture.change_id, ChangedPicture.picture_id],
        set_={"after": statement.excluded.after, "before": statement.excluded.before},
    )
    rows = [
        {
            "change_id": change_id, "picture_id": labels.id, "before": _before(labels, after),
            "after": digest(labels_record(0, after.state, after.boxes)),
        }
        for labels, after in planned
    ]  # fmt: skip
    session.execute(statement, rows)


def _before(labels: PictureRow, after: Rewritten) -> dict[str, Any]:
    part = {} if after.part == AS_IT_IS else {"part": labels.part.value if labels.part else None}
    return labels.record() | part


def keeping_state(labels: PictureRow, boxes: Sequence[NewBox], by_hand: bool = False) -> Rewritten:
    """Other boxes in the state that the picture has, as far as it fits them."""
    return Rewritten(boxes, state_with(labels.state, bool(boxes), by_hand))
