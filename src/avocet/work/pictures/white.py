"""The one white of a project's pictures of more than 8 bits: kept with them, and settled anew as others arrive."""

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from avocet.media.deep import Depth, white_for, white_of_set
from avocet.media.white import check_white
from avocet.store.rows import quietly
from avocet.store.tables import Picture
from avocet.work.project.projects import get_project

IS_DEEP = Picture.white.is_not(None)


@dataclass(frozen=True)
class ProjectWhite:
    """How a project's pictures of more than 8 bits are read.

    Attributes
    ----------
    pictures : int
        Those of more than 8 bits.
    declared : int
        Those of them whose files say what is white.
    whites : list of float
        With which they are read.
    of_set : float, optional
        What all of those fit into whose files say nothing.
    chosen : float, optional
        By a person, for all of them.
    """

    pictures: int
    declared: int
    whites: list[float]
    of_set: float | None
    chosen: float | None


def project_white(session: Session, project_id: int) -> ProjectWhite:
    """How a project's pictures of more than 8 bits are read. Raises `NotFound`."""
    chosen = get_project(session, project_id).white
    query = (
        select(Picture.white, func.count(), func.count(Picture.declared_white))
        .where(Picture.project_id == project_id, Picture.binned_at.is_(None), IS_DEEP)
        .group_by(Picture.white)
    )
    rows = session.execute(query).all()
    return ProjectWhite(
        pictures=sum(count for _, count, _ in rows),
        declared=sum(declared for _, _, declared in rows),
        whites=sorted(white for white, _, _ in rows if white is not None),
        of_set=_of_set(session, project_id),
        chosen=chosen,
    )


def choose_white(session: Session, project_id: int, white: float | None) -> None:
    """Say what is white in all of a project's pictures of more than 8 bits; None lets their files and the set say it.

    Raises
    ------
    InputError
        If it cannot be white.
    """
    check_white(white)
    project = get_project(session, project_id)
    project.white = white
    value = func.coalesce(white, Picture.declared_white, _of_set(session, project_id))
    wanted = (Picture.project_id == project_id, IS_DEEP, Picture.white.is_distinct_from(value))
    session.execute(quietly(update(Picture).where(*wanted).values(white=value)))


def settle_white(session: Session, project_id: int, arrived: Sequence[Picture]) -> None:
    """Give pictures that are just being recorded their white, and those that are there the same where it rose."""
    deep = [
        (each, Depth(each.declared_white, each.least_white)) for each in arrived if each.white is not None
    ]
    if not deep:
        return
    with session.no_autoflush:
        # Without those that have just arrived.
        chosen, before = get_project(session, project_id).white, _of_set(session, project_id)
    of_set = white_of_set([Depth(least=before), *(depth for _, depth in deep)])
    for each, depth in deep:
        each.white = white_for(depth, chosen, of_set)
    if chosen is None and before is not None and of_set != before:
        others = (Picture.project_id == project_id, IS_DEEP, Picture.least_white.is_not(None))
        session.execute(quietly(update(Picture).where(*others).values(white=of_set)))


def _of_set(session: Session, project_id: int) -> float | None:
    query = select(func.max(Picture.least_white)).where(Picture.project_id == project_id, IS_DEEP)
    return session.scalar(query)
