"""Classes of objects: names, colours, number keys; every change says what it touches and has a way back."""

import re
from collections.abc import Sequence

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.palette import COLOURS
from avocet.readable import so_many, usable_name
from avocet.store.tables import Box, Change, ObjectClass, Picture, Project, now
from avocet.work.labels.changes import begin_change, changing_classes, renumber
from avocet.work.labels.columns import LabelColumns
from avocet.work.problems import NotFound
from avocet.work.project.projects import get_project

MOST_CLASSES = 1000


def list_classes(session: Session, project_id: int, retired: bool = False) -> list[ObjectClass]:
    """The project's classes in the order of their number keys, with the retired ones if wanted."""
    project = get_project(session, project_id)
    ordered = sorted(project.classes, key=lambda each: (each.retired_at is not None, each.position))
    return [each for each in ordered if retired or each.retired_at is None]


def get_class(session: Session, project_id: int, class_id: int) -> ObjectClass:
    """The class, or `NotFound`."""
    found = session.get(ObjectClass, class_id)
    if found is None or found.project_id != project_id:
        raise NotFound(f"the project has no class {class_id}")
    return found


def boxes_by_class(session: Session, project_id: int) -> dict[int, int]:
    """How many boxes each class has in pictures that are not in the bin."""
    rows = session.execute(
        select(Box.class_id, func.count())
        .join(Picture)
        .where(Picture.project_id == project_id, Picture.binned_at.is_(None))
        .group_by(Box.class_id)
    )
    return {class_id: count for class_id, count in rows}


def counted(columns: LabelColumns) -> dict[int, int]:
    """The same from labels that are at hand."""
    ids, counts = np.unique(columns.class_ids, return_counts=True)
    return {int(class_id): int(count) for class_id, count in zip(ids, counts, strict=True)}


def add_class(session: Session, project_id: int, name: str) -> ObjectClass:
    """Add a class after the others, or restore a retired one of that name.

    Raises `InputError` if the name is empty or taken.
    """
    project = get_project(session, project_id)
    added = _put_last(project, name)
    renumber(project.classes)
    session.flush()
    return added


def _put_last(project: Project, name: str) -> ObjectClass:
    """The class in its place behind the others; numbers are put right once all are there."""
    retired = next((each for each in project.classes if each.retired_at and each.name == name.strip()), None)
    if retired is not None:
        retired.retired_at = None
        retired.position = 1 + max(each.position for each in project.classes)
        return retired
    wanted = _free_name(project.classes, name)
    if len(project.classes) >= MOST_CLASSES:
        raise InputError(f"a project has at most {MOST_CLASSES} classes")
    place = len(project.classes)
    position = 1 + max((each.position for each in project.classes if not each.retired_at), default=0)
    added = ObjectClass(name=wanted, colour=COLOURS[place % len(COLOURS)], position=position)
    project.classes.append(added)
    return added


def add_classes(session: Session, project_id: int, text: str) -> tuple[list[ObjectClass], Change]:
    """Add classes from a pasted list, one name a line; names that are there already are passed over.

    Raises `InputError` if a name cannot be used; then none is added.
    """
    change = begin_change(session, project_id, "Classes added")
    project = get_project(session, project_id)
    there = {each.name for each in project.classes if each.retired_at is None}
    added = []
    with changing_classes(session, change):
        for line in text.splitlines():
            name = line.strip().rstrip(",;").strip()
            if name and name not in there:
                added.append(_put_last(project, name))
                there.add(name)
        renumber(project.classes)
    if not added:
        raise InputError("the list holds no name that is new here")
    change.title = f"{so_many(len(added), 'class', 'classes')} added"
    return added, change


def add_one(session: Session, project_id: int, name: str) -> Change:
    """Add a class as a change of its own."""
    change = begin_change(session, project_id, f"Class {name.strip()} added")
    with changing_classes(session, change):
        add_class(session, project_id, name)
    return change


def change_class(
    session: Session, project_id: int, class_id: int, name: str | None, colour: str | None
) -> Change:
    """Rename or recolour a class. Raises `InputError` if a value cannot be used."""
    chosen = get_class(session, project_id, class_id)
    change = begin_change(session, project_id, f"{chosen.name} changed")
    with changing_classes(session, change):
        if name is not None and name.strip() != chosen.name:
            change.title = f"{chosen.name} renamed to {name.strip()}"
            chosen.name = _free_name(get_project(session, project_id).classes, name)
        if colour is not None:
            if not re.fullmatch(r"#[0-9A-Fa-f]{6}", colour):
                raise InputError(f"a colour looks like #4A7397, not {colour!r}")
            chosen.colour = colour.upper()
    return change


def reorder_classes(session: Session, project_id: int, ids: Sequence[int]) -> Change:
    """Put classes into a new order, and so onto new number keys. Raises `InputError` unless all are named."""
    here = {each.id: each for each in list_classes(session, project_id)}
    if sorted(ids) != sorted(here):
        raise InputError("the new order must name every class of the project once")
    change = begin_change(session, project_id, "Classes reordered")
    with changing_classes(session, change):
        for position, class_id in enumerate(ids, start=1):
            here[class_id].position = position
    return change


def retire_class(session: Session, project_id: int, class_id: int) -> Change:
    """Take a class out of use. Its boxes stay, but snapshots leave them out."""
    chosen = get_class(session, project_id, class_id)
    if chosen.retired_at is not None:
        raise InputError(f"{chosen.name!r} is retired already")
    change = begin_change(session, project_id, f"{chosen.name} retired")
    with changing_classes(session, change):
        retire(session, chosen)
    return change


def retire(session: Session, chosen: ObjectClass, into: ObjectClass | None = None) -> None:
    """Take a class out of use as part of a change that is under way, because it was merged ``into`` one perhaps."""
    chosen.retired_at = now()
    chosen.merged_into = into.id if into else None
    renumber(get_project(session, chosen.project_id).classes)


def ensure_classes(session: Session, project_id: int, names: list[str]) -> list[ObjectClass]:
    """The classes of these names, in this order, added where missing."""
    there = {each.name: each for each in list_classes(session, project_id)}
    result = []
    for name in names:
        if name not in there:
            there[name] = add_class(session, project_id, name)
        result.append(there[name])
    return result


def check_name(name: str) -> str:
    """The name without blanks around it. Raises `InputError` if no class can have it."""
    return usable_name(name, "a class name")


def _free_name(classes: list[ObjectClass], name: str) -> str:
    wanted = check_name(name)
    if any(each.name == wanted for each in classes):
        raise InputError(f"there is a class called {wanted!r} already")
    return wanted
