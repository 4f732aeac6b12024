"""Changes to many pictures or classes at once, each with a way back; `undo` goes it."""

import hashlib
import json
from collections.abc import Container, Iterator, Sequence
from contextlib import contextmanager
from itertools import count
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.readable import readable
from avocet.store.tables import Change, ChangedPicture, ObjectClass, Picture, PictureState
from avocet.work.labels.boxes import NewBox, labels_of, save_labels
from avocet.work.project.projects import get_project


def begin_change(session: Session, project_id: int, title: str) -> Change:
    """Record that a change begins."""
    get_project(session, project_id)
    change = Change(project_id=project_id, title=readable(title))
    session.add(change)
    session.flush()
    return change


@contextmanager
def changing_classes(session: Session, change: Change) -> Iterator[None]:
    """Around what a change does to the classes, which goes back with it."""
    project = get_project(session, change.project_id)
    change.classes = [class_row(each) for each in project.classes]
    yield
    session.flush()
    change.classes_after = [class_row(each) for each in project.classes]


def change_picture(
    session: Session, change: Change, picture: Picture, boxes: Sequence[NewBox], state: PictureState,
    by_hand: bool = True,
) -> None:  # fmt: skip
    """Give one picture other labels as part of a change; for very many there is `change_labels`."""
    before = labels_of(picture)
    save_labels(session, picture, picture.revision, boxes, state, by_hand)
    after = digest(labels_of(picture))
    session.add(ChangedPicture(change_id=change.id, picture_id=picture.id, after=after, before=before))


def latest_changes(session: Session, project_id: int, limit: int = 200) -> list[Change]:
    """The project's changes, newest first."""
    query = select(Change).where(Change.project_id == project_id).order_by(Change.id.desc()).limit(limit)
    return list(session.scalars(query))


def digest(labels: dict[str, Any]) -> str:
    """Equal for equal labels, whatever their revision: changes are undone one after the other."""
    return hashlib.sha256(json.dumps(labels | {"revision": 0}, sort_keys=True).encode()).hexdigest()[:24]


def name_again(name: str, taken: Container[str]) -> str:
    """A name that comes back with an undo: its own, unless somebody else has it by now."""
    later = (f"{name} (formerly{f' {number}' if number > 1 else ''})" for number in count(1))
    return name if name not in taken else next(each for each in later if each not in taken)


def class_row(each: ObjectClass) -> dict[str, Any]:
    """A class as a change remembers it."""
    retired = each.retired_at.isoformat() if each.retired_at else None
    return {
        "id": each.id,
        "name": each.name,
        "colour": each.colour,
        "position": each.position,
        "retired_at": retired,
    }


def renumber(classes: Sequence[ObjectClass]) -> None:
    """Number keys without gaps; retired classes come last."""
    ordered = sorted(classes, key=lambda each: (each.retired_at is not None, each.position))
    for position, each in enumerate(ordered, start=1):
        each.position = position
