"""Undoing a change to many pictures or classes, as far as nobody has worked on since."""

import datetime as dt
from collections.abc import Sequence
from typing import Any, Literal

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.clip_tables import ClipTrack
from avocet.store.database import Sessions, reading
from avocet.store.rows import among
from avocet.store.tables import (
    Attribute,
    Box,
    Change,
    ChangedPicture,
    ObjectClass,
    Part,
    Picture,
    PictureState,
    Snapshot,
    now,
)
from avocet.work.job_givens import ChangeToUndo
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import Undone
from avocet.work.labels.attribute_changes import restore_attributes, take_away_added_attributes
from avocet.work.labels.boxes import boxes_from
from avocet.work.labels.changes import class_row, digest, name_again, renumber
from avocet.work.labels.class_merge import is_merge, restore_merged, restore_tracks
from avocet.work.labels.many import AS_IT_IS, Rewritten, label_portions, write_labels
from avocet.work.labels.rows import picture_rows
from avocet.work.pictures.filing import AT_ONCE as FILED_AT_ONCE
from avocet.work.pictures.filing import restore_filing
from avocet.work.problems import NotFound
from avocet.work.progress import SILENT, Reporter, in_portions
from avocet.work.project.projects import get_project


def do_undo(task: Task[ChangeToUndo]) -> Undone:
    """Undo a change in the background."""
    return undo_change(task.sessions, task.given.project_id, task.given.change_id, task.reporter)


def undo_change(sessions: Sessions, project_id: int, change_id: int, reporter: Reporter = SILENT) -> Undone:
    """Undo a change, as far as nobody has worked on since.

    It is undone in short steps. After a stop or a kill the change is still there, with the pictures
    that are left, and can be undone again.

    Raises
    ------
    InputError
        If it is undone already.
    """
    with sessions.begin() as session:
        change = find_change(session, project_id, change_id)
        if change.undone_at is not None:
            raise InputError(f"{change.title!r} is undone already")
        title = change.title
        _restore_classes(session, change)
        restore_tracks(session, change)
        restore_attributes(session, change)
    with reading(sessions)() as session:
        todo = session.scalars(
            select(ChangedPicture.picture_id)
            .where(ChangedPicture.change_id == change_id)
            .order_by(ChangedPicture.picture_id)
        ).all()
        marks = session.scalars(
            select(ChangedPicture.after)
            .where(ChangedPicture.change_id == change_id, ChangedPicture.after.contains(" "))
            .distinct()
        ).all()
    restored = 0
    if marks:
        for some in in_portions(todo, FILED_AT_ONCE, reporter):
            restored += _set_back(sessions, change_id, marks, some)
    else:
        for some in label_portions(todo, reporter):
            restored += _label_back(sessions, change_id, some)
    with sessions.begin() as session:
        change = find_change(session, project_id, change_id)
        _take_away_added(session, change)
        take_away_added_attributes(session, change)
        change.undone_at = now()
    return Undone(title=title, pictures=restored, kept=len(todo) - restored)


def find_change(session: Session, project_id: int, change_id: int) -> Change:
    """The project's change, or `NotFound`."""
    change = session.get(Change, change_id)
    if change is None or change.project_id != project_id:
        raise NotFound(f"the project has no change {change_id}")
    return change


def pictures_of(session: Session, change_id: int, most: int) -> int:
    """How many pictures a change met, counted up to ``most``."""
    query = select(ChangedPicture.picture_id).where(ChangedPicture.change_id == change_id)
    return len(session.scalars(query.limit(most)).all())


def _set_back(sessions: Sessions, change_id: int, marks: Sequence[str], ids: Sequence[int]) -> int:
    """Undo on some pictures what statements over many did, and forget it; returns how many were as they left them."""
    with sessions.begin() as session:
        restored = 0
        for mark in marks:
            restore = restore_merged if is_merge(mark) else restore_filing
            restored += restore(session, change_id, mark, ids)
        session.execute(
            delete(ChangedPicture).where(
                ChangedPicture.change_id == change_id, among(ChangedPicture.picture_id, ids)
            )
        )
    return restored


def _label_back(sessions: Sessions, change_id: int, ids: Sequence[int]) -> int:
    """The same with the labels of pictures."""
    chosen = (ChangedPicture.change_id == change_id, among(ChangedPicture.picture_id, ids))
    with reading(sessions)() as session:
        rows = session.execute(
            select(ChangedPicture.picture_id, ChangedPicture.after, ChangedPicture.before).where(*chosen)
        ).all()
        changed = {number: (after, before) for number, after, before in rows}
        here = picture_rows(session, [among(Picture.id, ids)])
    planned = [
        (labels, Rewritten(boxes_from(before), PictureState(before["state"]), _part(before)))
        for labels in here
        for after, before in [changed[labels.id]]
        if digest(labels.record()) == after
    ]
    with sessions.begin() as session:
        stale = write_labels(session, None, planned)
        session.execute(delete(ChangedPicture).where(*chosen))
    return len(planned) - len(stale)


def _part(before: dict[str, Any]) -> Part | Literal["as it is"] | None:
    """The part that a picture had, where the change gave it one along with its labels."""
    if "part" not in before:
        return AS_IT_IS
    return Part(before["part"]) if before["part"] else None


def _restore_classes(session: Session, change: Change) -> None:
    """What the change did to names, colours, order and use of classes, where it is still as it left them."""
    project = get_project(session, change.project_id)
    before = {row["id"]: row for row in change.classes}
    after = {row["id"]: row for row in _classes_after(session, change)}
    here = {each.id: each for each in project.classes}
    names: dict[int, str] = {}
    for class_id in before.keys() & after.keys() & here.keys():
        each, was, became, current = (
            here[class_id],
            before[class_id],
            after[class_id],
            class_row(here[class_id]),
        )
        given = {name for name in was if was[name] != became[name] and became[name] == current[name]}
        if "name" in given:
            names[class_id] = was["name"]
        if "colour" in given:
            each.colour = was["colour"]
        if "position" in given:
            each.position = was["position"]
        if "retired_at" in given:
            each.retired_at = dt.datetime.fromisoformat(was["retired_at"]) if was["retired_at"] else None
    # By way of names that nobody has, as two classes may have changed names.
    for class_id in names:
        here[class_id].name = f"\x00{class_id}"
    session.flush()
    taken = {each.name for each in project.classes}
    for class_id, name in names.items():
        here[class_id].name = name_again(name, taken)
        taken.add(here[class_id].name)
    renumber(project.classes)


def _take_away_added(session: Session, change: Change) -> None:
    """Delete the classes that the change added, where nothing was made of them; retire the others without boxes."""
    project = get_project(session, change.project_id)
    added = {row["id"] for row in _classes_after(session, change)} - {row["id"] for row in change.classes}
    for each in [each for each in project.classes if each.id in added]:
        if session.scalar(select(Box.id).where(Box.class_id == each.id).limit(1)) is not None:
            continue
        if session.scalar(select(ClipTrack.id).where(ClipTrack.class_id == each.id).limit(1)) is not None:
            continue
        if _is_remembered(session, change, each):
            each.retired_at = each.retired_at or now()
        else:
            project.classes.remove(each)
            session.delete(each)
    session.flush()
    renumber(project.classes)


def _is_remembered(session: Session, change: Change, added: ObjectClass) -> bool:
    """Whether a later change, a snapshot or an attribute may speak of a class."""
    asked = (
        select(Change.id).where(
            Change.project_id == change.project_id, Change.id > change.id, Change.undone_at.is_(None)
        ),
        select(Snapshot.id).where(
            Snapshot.project_id == change.project_id, Snapshot.created_at >= change.made_at
        ),
        select(Attribute.id).where(Attribute.class_id == added.id),
    )
    return any(session.scalar(each.limit(1)) is not None for each in asked)


def _classes_after(session: Session, change: Change) -> list[dict[str, Any]]:
    """The classes as the change left them; earlier versions did not keep that."""
    if change.classes_after is not None or not change.classes:
        return change.classes_after or []
    query = select(Change.classes).where(Change.project_id == change.project_id, Change.id > change.id)
    now_there = [class_row(each) for each in get_project(session, change.project_id).classes]
    return next((classes for classes in session.scalars(query.order_by(Change.id)) if classes), now_there)
