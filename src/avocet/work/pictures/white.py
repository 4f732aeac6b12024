"""The one white of pictures that belong together, of a project or of a run: what is white in those of more than 8 bits.

What their files say, else the least usual white that all of those fit into whose files say nothing; a person may choose
another for all of them.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.media.deep import DEEP_SUFFIXES, LARGEST_WHITE, Depth, white_for, white_of_set
from avocet.media.pictures import picture_depth
from avocet.store.rows import quietly
from avocet.store.tables import Picture
from avocet.work.cores import on_all_cores
from avocet.work.project.projects import get_project

IS_DEEP = Picture.white.is_not(None)

MOST_MEASURED = 64
"""Files whose values are looked at to find the white of all, spread over them."""


@dataclass(frozen=True)
class FileWhites:
    """How files are read that belong together.

    Attributes
    ----------
    whites : dict of int to float
        By place, of the pictures of more than 8 bits.
    declared : int
        How many of them say themselves what is white.
    of_set : float, optional
        That of those that do not.
    """

    whites: dict[int, float]
    declared: int
    of_set: float | None


def whites_of_files(
    files: Sequence[tuple[Path, str]],
    chosen: float | None = None,
    usual: float | None = None,
    known: Mapping[int, float] | None = None,
) -> FileWhites:
    """Settle what is white in each picture of more than 8 bits among files.

    What cannot be read is left out: it is told of when its turn comes.

    Parameters
    ----------
    files : sequence of (Path, str)
        And what to call them.
    chosen : float, optional
        By a person, for all.
    usual : float, optional
        Of those whose files say nothing; by default what all of them fit into.
    known : mapping of int to float, optional
        By place, what was settled before and stays.

    Raises
    ------
    InputError
        If what was chosen cannot be white.
    """
    check_white(chosen)
    known = known or {}
    maybe = [n for n, (path, _) in enumerate(files) if path.suffix.lower() in DEEP_SUFFIXES]
    found = on_all_cores(lambda n: picture_depth(*files[n], measured=False), maybe)
    deep = {n: each for n, each in zip(maybe, found, strict=True) if isinstance(each, Depth)}
    unsaid = [n for n, each in deep.items() if each.declared is None]
    of_set = next((known[n] for n in unsaid if n in known), usual)
    if of_set is None and chosen is None:
        step = max(1, len(unsaid) // MOST_MEASURED)
        measured = on_all_cores(lambda n: picture_depth(*files[n]), unsaid[::step])
        of_set = white_of_set([each for each in measured if isinstance(each, Depth)])
    whites = {
        n: known[n] if chosen is None and n in known else white_for(each, chosen, of_set)
        for n, each in deep.items()
        if (chosen, each.declared, of_set) != (None, None, None)
    }
    return FileWhites(whites, len(deep) - len(unsaid), of_set)


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


def check_white(white: float | None) -> None:
    """Raise `InputError` where a value cannot be white."""
    if white is not None and not 0 < white <= LARGEST_WHITE:
        raise InputError(f"white must be above 0 and at most {LARGEST_WHITE:,.0f}, not {white:g}")


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
