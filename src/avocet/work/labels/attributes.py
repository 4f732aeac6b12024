"""Attributes: what can be said of a box beside its class."""

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import ColumnElement, and_, func, select, text
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.formats.record import CUT_OFF, IGNORE, OCCLUDED
from avocet.readable import usable_name
from avocet.store.tables import Attribute, AttributeKind, Box, Picture
from avocet.work.problems import NotFound

READY_MADE = (OCCLUDED, CUT_OFF, IGNORE)
"""Flags that every project has from the start; ignored boxes are not counted when a detector is measured."""


def add_ready_made(session: Session, project_id: int) -> None:
    """The flags that every project has."""
    for position, name in enumerate(READY_MADE, start=1):
        session.add(
            Attribute(
                project_id=project_id, name=name, kind=AttributeKind.FLAG, choices=[], position=position
            )
        )
    session.flush()


def list_attributes(session: Session, project_id: int) -> list[Attribute]:
    """The project's attributes in order."""
    query = select(Attribute).where(Attribute.project_id == project_id).order_by(Attribute.position)
    return list(session.scalars(query))


def add_attribute(
    session: Session,
    project_id: int,
    name: str,
    kind: AttributeKind,
    class_id: int | None = None,
    choices: Sequence[str] = (),
) -> Attribute:
    """Add an attribute of all classes or of one. Raises `InputError` if it cannot be used."""
    wanted = usable_attribute_name(session, project_id, name)
    options = usable_choices(wanted, choices) if kind == AttributeKind.CHOICE else []
    there = list_attributes(session, project_id)
    added = Attribute(
        project_id=project_id,
        name=wanted,
        kind=kind,
        class_id=class_id,
        choices=options,
        position=1 + max((each.position for each in there), default=0),
    )
    session.add(added)
    session.flush()
    return added


def get_attribute(session: Session, project_id: int, attribute_id: int) -> Attribute:
    """One attribute of the project, or `NotFound`."""
    found = session.get(Attribute, attribute_id)
    if found is None or found.project_id != project_id:
        raise NotFound(f"the project has no attribute {attribute_id}")
    return found


def usable_attribute_name(session: Session, project_id: int, given: str, of: Attribute | None = None) -> str:
    """A name that an attribute may have. Raises `InputError` if it cannot be used, or another one has it."""
    wanted = usable_name(given, "an attribute's name")
    if '"' in wanted:
        raise InputError(f"an attribute's name has no quotation marks, unlike {wanted!r}")
    if any(each.name == wanted and each is not of for each in list_attributes(session, project_id)):
        raise InputError(f"there is an attribute called {wanted!r} already")
    return wanted


def usable_choices(name: str, given: Sequence[str]) -> list[str]:
    """What can be chosen. Raises `InputError` for fewer than two different values."""
    options = list(dict.fromkeys(each.strip() for each in given if each.strip()))
    if len(options) < 2:
        raise InputError(f"the choice {name!r} needs at least two different values")
    return options


def values_outside(attributes: Sequence[Attribute], values: Mapping[str, Any]) -> list[tuple[str, str]]:
    """Which of a box's values are none that their attributes hold: their names, and what is wrong in words.

    What the project does not list may have any value: it came with a file.
    """
    wrong = []
    for each in attributes:
        value = values.get(each.name)
        if value is None or _holds(each, value):
            continue
        wanted = {
            AttributeKind.FLAG: "is set or not",
            AttributeKind.NUMBER: "holds a number",
            AttributeKind.CHOICE: f"holds {' or '.join(each.choices)}",
        }[each.kind]
        wrong.append((each.name, f"{str(value)[:60]!r} as {each.name!r}, which {wanted}"))
    return wrong


def _holds(attribute: Attribute, value: Any) -> bool:
    if attribute.kind == AttributeKind.FLAG:
        return isinstance(value, bool)
    if attribute.kind == AttributeKind.NUMBER:
        return isinstance(value, int | float) and not isinstance(value, bool)
    return value in attribute.choices


def boxes_with(session: Session, project_id: int, name: str) -> int:
    """How many boxes have an attribute."""
    query = select(func.count(Box.id)).join(Picture).where(Picture.project_id == project_id, has(name))
    return session.scalar(query) or 0


def has(name: str) -> ColumnElement[bool]:
    """The condition that a box has an attribute; the first half of it uses an index of the few that have any."""
    return and_(text("box.attributes <> '{}'"), func.json_type(Box.attributes, f'$."{name}"').is_not(None))
