"""Boxes that get another class, or go, by the many; pictures that are marked as done."""

from collections.abc import Sequence
from dataclasses import replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.readable import so_many
from avocet.store.database import Sessions, reading
from avocet.store.rows import among
from avocet.store.tables import Box, Change, Picture, PictureState
from avocet.work.job_givens import BoxesToChange, PicturesToFinish
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import ChangeMade
from avocet.work.labels.changes import begin_change
from avocet.work.labels.classes import get_class
from avocet.work.labels.many import Rewritten, change_labels, keeping_state
from avocet.work.labels.rows import PictureRow
from avocet.work.progress import SILENT, Reporter


def do_boxes(task: Task[BoxesToChange]) -> ChangeMade:
    """Change boxes in the background."""
    given = task.given
    return change_boxes(task.sessions, given.project_id, given.ids, given.class_id, task.reporter)


def do_done(task: Task[PicturesToFinish]) -> ChangeMade:
    """Mark pictures as done in the background."""
    return mark_done(task.sessions, task.given.project_id, task.given.ids, task.reporter)


def mark_done(
    sessions: Sessions, project_id: int, ids: Sequence[int], reporter: Reporter = SILENT
) -> ChangeMade:
    """Mark pictures in progress as done; those without boxes stay as they are: a person says so of each."""
    with reading(sessions)() as session:
        begun = session.scalars(
            select(Picture.id)
            .where(
                Picture.project_id == project_id,
                Picture.state == PictureState.IN_PROGRESS,
                among(Picture.id, ids),
            )
            .order_by(Picture.id)
        ).all()
    if not begun:
        return ChangeMade(change_id=None, title="None of these pictures is in progress", changed=0)
    with sessions.begin() as session:
        change_id = begin_change(session, project_id, "Pictures marked as done").id

    def edit(labels: PictureRow) -> Rewritten | None:
        begun = labels.state == PictureState.IN_PROGRESS and labels.boxes
        return Rewritten(labels.boxes, PictureState.DONE) if begun else None

    changed = change_labels(sessions, change_id, begun, edit, reporter)
    with sessions.begin() as session:
        change = session.get_one(Change, change_id)
        change.title = f"{so_many(changed, 'picture')} marked as done"
    return ChangeMade(change_id=change_id, title=change.title, changed=changed)


def change_boxes(
    sessions: Sessions,
    project_id: int,
    ids: Sequence[int],
    class_id: int | None,
    reporter: Reporter = SILENT,
) -> ChangeMade:
    """Give boxes another class, or delete them where it is None.

    Raises
    ------
    InputError
        If none of the boxes is there any more.
    """
    with reading(sessions)() as session:
        name = get_class(session, project_id, class_id).name if class_id is not None else ""
        pictures = _pictures_with(session, project_id, ids)
    if not pictures:
        raise InputError("these boxes were changed meanwhile; look at the sheet again")
    what = f"turned into {name}" if class_id is not None else "deleted"
    with sessions.begin() as session:
        change_id = begin_change(session, project_id, f"Boxes {what}").id
    wanted, changed = set(ids), set[int]()

    def edit(labels: PictureRow) -> Rewritten | None:
        met = wanted.intersection(labels.box_ids)
        changed.update(met)
        if class_id is None:
            boxes = [
                box for number, box in zip(labels.box_ids, labels.boxes, strict=True) if number not in met
            ]
        else:
            boxes = [
                replace(box, class_id=class_id) if number in met else box
                for number, box in zip(labels.box_ids, labels.boxes, strict=True)
            ]
        return keeping_state(labels, boxes, by_hand=True) if met else None

    change_labels(sessions, change_id, pictures, edit, reporter)
    with sessions.begin() as session:
        change = session.get_one(Change, change_id)
        change.title = f"{so_many(len(changed), 'box', 'boxes')} {what}"
    return ChangeMade(change_id=change_id, title=change.title, changed=len(changed))


def _pictures_with(session: Session, project_id: int, box_ids: Sequence[int]) -> Sequence[int]:
    query = select(Picture.id).join(Box).where(Picture.project_id == project_id, among(Box.id, box_ids))
    return session.scalars(query.distinct().order_by(Picture.id)).all()
