"""Attributes: what can be said of a box beside its class."""

from collections.abc import Sequence

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
    wanted = usable_name(name, "an attribute's name")
    there = list_attributes(session, project_id)
    if '"' in wanted:
        raise InputError(f"an attribute's name has no quotation marks, unlike {wanted!r}")
    if any(each.name == wanted for each in there):
        raise InputError(f"there is an attribute called {wanted!r} already")
    options = [each.strip() for each in choices if each.strip()]
    if kind == AttributeKind.CHOICE and len(set(options)) < 2:
        raise InputError(f"the choice {wanted!r} needs at least two different values")
    added = Attribute(
        project_id=project_id,
        name=wanted,
        kind=kind,
        class_id=class_id,
        choices=list(dict.fromkeys(options)) if kind == AttributeKind.CHOICE else [],
        position=1 + max((each.position for each in there), default=0),
    )
    session.add(added)
    session.flush()
    return added


def remove_attribute(session: Session, project_id: int, attribute_id: int) -> None:
    """Remove an attribute that no box has. Raises `InputError` while boxes have it, or if it is ready-made."""
    found = session.get(Attribute, attribute_id)
    if found is None or found.project_id != project_id:
        raise NotFound(f"the project has no attribute {attribute_id}")
    if found.name in READY_MADE:
        raise InputError(f"{found.name!r} is there in every project")
    used = boxes_with(session, project_id, found.name)
    if used:
        raise InputError(f"{used} boxes have {found.name!r}; take it from them first")
    session.delete(found)
    session.flush()


def boxes_with(session: Session, project_id: int, name: str) -> int:
    """How many boxes have an attribute."""
    query = select(func.count(Box.id)).join(Picture).where(Picture.project_id == project_id, has(name))
    return session.scalar(query) or 0


def has(name: str) -> ColumnElement[bool]:
    """The condition that a box has an attribute; the first half of it uses an index of the few that have any."""
    return and_(text("box.attributes <> '{}'"), func.json_type(Box.attributes, f'$."{name}"').is_not(None))
