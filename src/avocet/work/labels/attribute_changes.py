"""Attributes that boxes may have already: added, renamed, given other choices, or removed, with a way back."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.database import Sessions, reading
from avocet.store.tables import Attribute, AttributeKind, Box, Change, Picture
from avocet.work.job_givens import AttributeToChange
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import ChangeMade
from avocet.work.labels.attributes import (
    READY_MADE,
    add_attribute,
    boxes_with,
    get_attribute,
    has,
    list_attributes,
    usable_attribute_name,
    usable_choices,
)
from avocet.work.labels.boxes import NewBox
from avocet.work.labels.changes import begin_change, name_again
from avocet.work.labels.many import Rewritten, change_labels, keeping_state
from avocet.work.labels.rows import PictureRow
from avocet.work.progress import SILENT, Reporter

FIELDS = ("id", "name", "kind", "class_id", "choices", "position")


def do_attribute(task: Task[AttributeToChange]) -> ChangeMade:
    """Change or remove an attribute in the background."""
    given = task.given
    place = (task.sessions, given.project_id, given.attribute_id)
    if given.removed:
        return remove_attribute(*place, task.reporter)
    choices = None if given.choices is None else [(each.value, each.was) for each in given.choices]
    return change_attribute(*place, given.name, choices, task.reporter)


@contextmanager
def changing_attributes(session: Session, change: Change) -> Iterator[None]:
    """Around what a change does to the attributes themselves, which goes back with it."""
    change.attributes = _rows(session, change.project_id)
    yield
    session.flush()
    change.attributes_after = _rows(session, change.project_id)


def add_as_change(
    session: Session,
    project_id: int,
    name: str,
    kind: AttributeKind,
    class_id: int | None = None,
    choices: Sequence[str] = (),
) -> Change:
    """Add an attribute, as a change that can be undone."""
    change = begin_change(session, project_id, "")
    with changing_attributes(session, change):
        added = add_attribute(session, project_id, name, kind, class_id, choices)
    change.title = f"Attribute {added.name} added"
    return change


def to_change(session: Session, project_id: int, attribute_id: int) -> Attribute:
    """An attribute that may be changed. Raises `InputError` for those that every project has."""
    found = get_attribute(session, project_id, attribute_id)
    if found.name in READY_MADE:
        raise InputError(f"{found.name!r} is there in every project")
    return found


def change_attribute(
    sessions: Sessions,
    project_id: int,
    attribute_id: int,
    name: str | None = None,
    choices: Sequence[tuple[str, str | None]] | None = None,
    reporter: Reporter = SILENT,
) -> ChangeMade:
    """Rename an attribute, or change what it can hold, along with the boxes that have it.

    Parameters
    ----------
    sessions : sessionmaker
    project_id, attribute_id : int
    name : str, optional
    choices : sequence of (str, str or None), optional
        What can be chosen, each with what it was called before, None for one that is new. Boxes with a
        value that is not taken over lose it.
    reporter : Reporter

    Returns
    -------
    ChangeMade
        ``changed`` counts boxes.

    Raises
    ------
    InputError
        If a name or the choices cannot be used.
    """
    with sessions.begin() as session:
        found = to_change(session, project_id, attribute_id)
        old, held = found.name, list(found.choices)
        wanted = usable_attribute_name(session, project_id, name, found) if name is not None else old
        values: Mapping[str, str | None] = {}
        if choices is not None:
            if found.kind != AttributeKind.CHOICE:
                raise InputError(f"{old!r} has no choices")
            given = usable_choices(wanted, [value for value, _ in choices])
            turned = {was: value.strip() for value, was in choices if was is not None and value.strip()}
            values = {value: turned.get(value) for value in held if turned.get(value) != value}
        else:
            given = held
        if wanted == old and given == held:
            return ChangeMade(change_id=None, title=f"{old} stays as it is", changed=0)
        title = f"{old} renamed to {wanted}" if wanted != old else f"Choices of {old} changed"
        change = begin_change(session, project_id, title)
        with changing_attributes(session, change):
            found.name, found.choices = wanted, given
        change_id = change.id

    def turn(box: NewBox) -> NewBox:
        if old not in box.attributes:
            return box
        turned = {
            wanted if key == old else key: values.get(value, value) if key == old else value
            for key, value in box.attributes.items()
            if key == old or key != wanted
        }
        return replace(box, attributes={key: value for key, value in turned.items() if value is not None})

    changed = _turn_boxes(sessions, project_id, change_id, old, turn, reporter)
    return ChangeMade(change_id=change_id, title=title, changed=changed)


def remove_attribute(
    sessions: Sessions, project_id: int, attribute_id: int, reporter: Reporter = SILENT
) -> ChangeMade:
    """Remove an attribute, also from the boxes that have it. Raises `InputError` if it is ready-made."""
    with sessions.begin() as session:
        found = to_change(session, project_id, attribute_id)
        name = found.name
        change = begin_change(session, project_id, f"Attribute {name} removed")
        with changing_attributes(session, change):
            session.delete(found)
        change_id, title = change.id, change.title

    def turn(box: NewBox) -> NewBox:
        rest = {key: value for key, value in box.attributes.items() if key != name}
        return replace(box, attributes=rest)

    changed = _turn_boxes(sessions, project_id, change_id, name, turn, reporter)
    return ChangeMade(change_id=change_id, title=title, changed=changed)


def restore_attributes(session: Session, change: Change) -> None:
    """What a change did to the attributes themselves, where it is still as the change left it."""
    if change.attributes is None:
        return
    before = {row["id"]: row for row in change.attributes}
    after = {row["id"]: row for row in change.attributes_after or []}
    here = {each.id: each for each in list_attributes(session, change.project_id)}
    taken = {each.name for each in here.values()}
    for number, was in before.items():
        each, became = here.get(number), after.get(number)
        name = name_again(was["name"], taken)
        if became is None and each is None:
            session.add(
                Attribute(
                    project_id=change.project_id, **was | {"kind": AttributeKind(was["kind"]), "name": name}
                )
            )
        elif became is not None and each is not None:
            if was["name"] != became["name"] == each.name:
                each.name = name
            if was["choices"] != became["choices"] == each.choices:
                each.choices = was["choices"]
    session.flush()


def take_away_added_attributes(session: Session, change: Change) -> None:
    """Delete the attributes that a change added, where no box has them."""
    if change.attributes is None:
        return
    added = {row["id"] for row in change.attributes_after or []} - {row["id"] for row in change.attributes}
    for each in list_attributes(session, change.project_id):
        if each.id in added and not boxes_with(session, change.project_id, each.name):
            session.delete(each)


def _turn_boxes(
    sessions: Sessions,
    project_id: int,
    change_id: int,
    name: str,
    turn: Callable[[NewBox], NewBox],
    reporter: Reporter,
) -> int:
    """Change the boxes that have an attribute; returns how many."""
    changed: dict[int, int] = {}

    def edit(labels: PictureRow) -> Rewritten | None:
        boxes = [turn(box) for box in labels.boxes]
        changed[labels.id] = sum(old != new for old, new in zip(labels.boxes, boxes, strict=True))
        return keeping_state(labels, boxes) if changed[labels.id] else None

    with reading(sessions)() as session:
        query = select(Box.picture_id).join(Picture).where(Picture.project_id == project_id, has(name))
        pictures = session.scalars(query.distinct().order_by(Box.picture_id)).all()
    change_labels(sessions, change_id, pictures, edit, reporter)
    return sum(changed.values())


def _rows(session: Session, project_id: int) -> list[dict[str, Any]]:
    return [
        {name: getattr(each, name) for name in FIELDS} | {"kind": each.kind.value}
        for each in list_attributes(session, project_id)
    ]
