"""Changes to many pictures or classes at once, each with a way back."""

import datetime as dt
import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.tables import Box, Change, ChangedPicture, ObjectClass, Part, Picture, PictureState, now
from avocet.work.labels.boxes import NewBox, boxes_from, labels_of, save_labels
from avocet.work.problems import NotFound
from avocet.work.project.projects import get_project

PART_DIGEST = "part "
"""How a changed picture is marked whose part was changed and not its labels."""


@dataclass(frozen=True)
class Undone:
    """What taking a change back came to.

    Attributes
    ----------
    title : str
        Of the change.
    pictures : int
        Pictures that have their former labels again.
    kept : int
        Pictures that were changed again since, and stay as they are.
    """

    title: str
    pictures: int
    kept: int


def begin_change(session: Session, project_id: int, title: str) -> Change:
    """Record that a change begins; the classes as they are now come back with it."""
    project = get_project(session, project_id)
    change = Change(
        project_id=project_id, title=title, classes=[_class_row(each) for each in project.classes]
    )
    session.add(change)
    session.flush()
    return change


def change_picture(
    session: Session, change: Change, picture: Picture, boxes: Sequence[NewBox], state: PictureState,
    by_hand: bool = True,
) -> None:  # fmt: skip
    """Give a picture other labels as part of a change."""
    before = labels_of(picture)
    save_labels(session, picture, picture.revision, boxes, state, by_hand)
    after = _digest(picture)
    session.add(ChangedPicture(change_id=change.id, picture_id=picture.id, after=after, before=before))


def change_parts(
    session: Session, change: Change, parts: Mapping[int, tuple[Part | None, Part | None]]
) -> None:
    """Move pictures to other parts as part of a change; for each its part before and after."""
    moved = {number: pair for number, pair in parts.items() if pair[0] != pair[1]}
    if not moved:
        return
    session.execute(
        insert(ChangedPicture),
        [
            {
                "change_id": change.id,
                "picture_id": number,
                "after": _part_digest(after),
                "before": {"part": before.value if before else None},
            }
            for number, (before, after) in moved.items()
        ],
    )
    session.execute(update(Picture), [{"id": number, "part": after} for number, (_, after) in moved.items()])


def undo_change(session: Session, project_id: int, change_id: int) -> Undone:
    """Undo a change, as far as nobody has worked on since.

    Raises
    ------
    InputError
        If it is undone already.
    """
    change = session.get(Change, change_id)
    if change is None or change.project_id != project_id:
        raise NotFound(f"the project has no change {change_id}")
    if change.undone_at is not None:
        raise InputError(f"{change.title!r} is undone already")
    _restore_classes(session, change)
    pictures, kept = _restore_parts(session, change)
    rows = select(ChangedPicture).where(
        ChangedPicture.change_id == change_id, ChangedPicture.after.not_like(PART_DIGEST + "%")
    )
    for row in session.scalars(rows):
        picture = session.get(Picture, row.picture_id)
        if picture is None or _digest(picture) != row.after:
            kept += 1
            continue
        state = PictureState(row.before["state"])
        save_labels(session, picture, picture.revision, boxes_from(row.before), state, by_hand=False)
        picture.state = state
        pictures += 1
    _retire_added(session, change)
    change.undone_at = now()
    session.flush()
    return Undone(change.title, pictures, kept)


def latest_changes(session: Session, project_id: int, limit: int = 200) -> list[Change]:
    """The project's changes, newest first."""
    query = select(Change).where(Change.project_id == project_id).order_by(Change.id.desc()).limit(limit)
    return list(session.scalars(query))


def _digest(picture: Picture) -> str:
    """Equal for equal labels, whatever their revision: changes are undone one after the other."""
    labels = labels_of(picture) | {"revision": 0}
    return hashlib.sha256(json.dumps(labels, sort_keys=True).encode()).hexdigest()[:24]


def _restore_parts(session: Session, change: Change) -> tuple[int, int]:
    """Give pictures their former parts again, unless they were moved since; how many, and how many stay."""
    rows = session.execute(
        select(ChangedPicture.picture_id, ChangedPicture.before, ChangedPicture.after, Picture.part)
        .join(Picture, Picture.id == ChangedPicture.picture_id)
        .where(ChangedPicture.change_id == change.id, ChangedPicture.after.like(PART_DIGEST + "%"))
    ).all()
    back = [
        {"id": number, "part": Part(before["part"]) if before["part"] else None}
        for number, before, after, part in rows
        if _part_digest(part) == after
    ]
    if back:
        session.execute(update(Picture), back)
        session.expire_all()
    return len(back), len(rows) - len(back)


def _part_digest(part: Part | None) -> str:
    return PART_DIGEST + (part.value if part else "")


def _class_row(each: ObjectClass) -> dict[str, Any]:
    retired = each.retired_at.isoformat() if each.retired_at else None
    return {
        "id": each.id,
        "name": each.name,
        "colour": each.colour,
        "position": each.position,
        "retired_at": retired,
    }


def _restore_classes(session: Session, change: Change) -> None:
    """Names, colours and order as they were; classes made since come after the others."""
    project = get_project(session, change.project_id)
    before = {row["id"]: row for row in change.classes}
    here = {each.id: each for each in project.classes if each.id in before}
    # By way of names that nobody has, as two classes may have changed names.
    for each in here.values():
        each.name = f"\x00{each.id}"
    session.flush()
    taken = {each.name for each in project.classes if each.id not in before}
    for class_id, each in here.items():
        row = before[class_id]
        each.name = row["name"] if row["name"] not in taken else f"{row['name']} (formerly)"
        each.colour, each.position = row["colour"], row["position"]
        each.retired_at = dt.datetime.fromisoformat(row["retired_at"]) if row["retired_at"] else None
    order = sorted(project.classes, key=lambda each: (each.id not in before, each.position))
    for position, each in enumerate(order, start=1):
        each.position = position
    session.flush()


def _retire_added(session: Session, change: Change) -> None:
    """Retire the classes that a change added, unless boxes have been drawn of them since."""
    project = get_project(session, change.project_id)
    later = session.scalars(
        select(Change)
        .where(Change.project_id == project.id, Change.id > change.id)
        .order_by(Change.id)
        .limit(1)
    ).first()
    after = {row["id"] for row in later.classes} if later else {each.id for each in project.classes}
    added = after - {row["id"] for row in change.classes}
    for each in project.classes:
        has_boxes = select(Box.id).where(Box.class_id == each.id).limit(1)
        if each.id in added and each.retired_at is None and session.scalar(has_boxes) is None:
            each.retired_at = now()
    renumber(project.classes)


def renumber(classes: Sequence[ObjectClass]) -> None:
    """Number keys without gaps; retired classes come last."""
    ordered = sorted(classes, key=lambda each: (each.retired_at is not None, each.position))
    for position, each in enumerate(ordered, start=1):
        each.position = position
