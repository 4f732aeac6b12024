"""Classes of objects: names, colours, number keys."""

import re

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.tables import Box, ObjectClass, Picture
from avocet.work.problems import NotFound
from avocet.work.projects import get_project

COLOURS = (
    "#E8A33D",
    "#5FA8D3",
    "#D3597E",
    "#8CB369",
    "#B08BD9",
    "#F2E16B",
    "#4FBFA8",
    "#E4703A",
    "#A9B8C9",
    "#C49A6C",
)
"""Told apart by people with the common colour-vision deficiencies, and light enough for the dark stage."""


def list_classes(session: Session, project_id: int) -> list[ObjectClass]:
    """The project's classes in the order of their number keys."""
    return list(get_project(session, project_id).classes)


def boxes_by_class(session: Session, project_id: int) -> dict[int, int]:
    """How many boxes each class has in pictures that are not in the bin."""
    rows = session.execute(
        select(Box.class_id, func.count())
        .join(Picture)
        .where(Picture.project_id == project_id, Picture.binned_at.is_(None))
        .group_by(Box.class_id)
    )
    return {class_id: count for class_id, count in rows}


def add_class(session: Session, project_id: int, name: str) -> ObjectClass:
    """Add a class after the others. Raises `InputError` if the name is empty or taken."""
    project = get_project(session, project_id)
    wanted = _usable_name(project.classes, name)
    position = 1 + max((each.position for each in project.classes), default=0)
    added = ObjectClass(name=wanted, colour=COLOURS[(position - 1) % len(COLOURS)], position=position)
    project.classes.append(added)
    session.flush()
    return added


def change_class(
    session: Session, project_id: int, class_id: int, name: str | None, colour: str | None
) -> ObjectClass:
    """Rename or recolour a class. Raises `InputError` if a value cannot be used."""
    classes = list_classes(session, project_id)
    chosen = next((each for each in classes if each.id == class_id), None)
    if chosen is None:
        raise NotFound(f"the project has no class {class_id}")
    if name is not None and name.strip() != chosen.name:
        chosen.name = _usable_name(classes, name)
    if colour is not None:
        if not re.fullmatch(r"#[0-9A-Fa-f]{6}", colour):
            raise InputError(f"a colour looks like #4A7397, not {colour!r}")
        chosen.colour = colour.upper()
    return chosen


def remove_class(session: Session, project_id: int, class_id: int) -> None:
    """Remove a class that no box uses. Raises `InputError` while boxes use it."""
    project = get_project(session, project_id)
    chosen = next((each for each in project.classes if each.id == class_id), None)
    if chosen is None:
        raise NotFound(f"the project has no class {class_id}")
    used = session.scalar(select(func.count(Box.id)).where(Box.class_id == class_id)) or 0
    if used:
        raise InputError(f"class {chosen.name!r} has {used} boxes; delete or change them first")
    project.classes.remove(chosen)
    session.flush()
    for position, each in enumerate(project.classes, start=1):
        each.position = position


def ensure_classes(session: Session, project_id: int, names: list[str]) -> list[ObjectClass]:
    """The classes of these names, in this order, added where missing."""
    there = {each.name: each for each in list_classes(session, project_id)}
    return [there.get(name) or add_class(session, project_id, name) for name in names]


def _usable_name(classes: list[ObjectClass], name: str) -> str:
    wanted = name.strip()
    if not wanted or len(wanted) > 100:
        raise InputError(f"a class name has 1 to 100 characters, not {len(wanted)}")
    if any(each.name == wanted for each in classes):
        raise InputError(f"there is a class called {wanted!r} already")
    return wanted
