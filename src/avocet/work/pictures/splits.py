"""Which pictures are for training, for validation and for the test."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.labels.splitting import cover_labels, split_by_ratio
from avocet.store.database import Sessions, reading
from avocet.store.tables import Change, Part, Picture, PictureState
from avocet.work.job_kinds import SplitOrder, Task
from avocet.work.job_outcomes import LabelledByPart, PicturesSplit
from avocet.work.labels.changes import begin_change, change_parts
from avocet.work.labels.columns import read_columns
from avocet.work.labels.states import LABELLED
from avocet.work.pictures.listing import portions
from avocet.work.progress import SILENT, Reporter
from avocet.work.project.projects import get_project

AT_ONCE = 500
"""Pictures that get their part in one transaction."""

PARTS = (Part.TRAINING, Part.VALIDATION, Part.TEST)


Moves = dict[int, tuple[Part | None, Part | None]]
"""For pictures, by their number, the part before and after."""


def split_pictures(
    session: Session, project_id: int, ratios: Sequence[float], seed: int, whole_sources: bool = True
) -> Change:
    """Plan a split and carry it out, as part of a transaction that is open already; see `plan_split`."""
    moves = plan_split(session, project_id, ratios, seed, whole_sources)
    change = begin_change(session, project_id, "Pictures split")
    change_parts(session, change, moves)
    return change


def plan_split(
    session: Session, project_id: int, ratios: Sequence[float], seed: int, whole_sources: bool = True
) -> Moves:
    """Assign every picture of the project to a part, whole clips together, classes in proportion.

    Labelled pictures and unlabelled ones are split each for themselves, so that the labelled
    ones follow the ratio too; a clip or source that has both counts as labelled. A class that would have no
    training box brings one of its pictures over.

    Parameters
    ----------
    session : Session
    project_id : int
    ratios : sequence of float
        For training, validation and test.
    seed : int
    whole_sources : bool
        Keep pictures of one source (a folder, or one inside an archive) together as well.

    Returns
    -------
    dict
        Only the pictures that get another part.

    Raises
    ------
    InputError
        If the ratios cannot be used, or there are too few sources to keep each whole.
    """
    get_project(session, project_id)
    if len(ratios) != len(PARTS):
        raise InputError(f"a split needs three ratios, not {len(ratios)}")
    rows = [
        _Row(*row)
        for row in session.execute(
            select(Picture.id, Picture.state, Picture.part, Picture.clip_id, Picture.source)
            .where(Picture.project_id == project_id, Picture.binned_at.is_(None))
            .order_by(Picture.content_hash)
        )
    ]
    if whole_sources:
        _check_enough_sources([row for row in rows if row.state in LABELLED], ratios)
    columns = read_columns(session, project_id)
    starts = np.searchsorted(columns.owner, np.arange(len(columns.picture_ids) + 1))
    place = {number: index for index, number in enumerate(columns.picture_ids.tolist())}
    class_ids = columns.class_ids.tolist()
    group_of = [_group(row, whole_sources) for row in rows]
    labelled_groups = {g for g, row in zip(group_of, rows, strict=True) if row.state in LABELLED}
    is_labelled = [group in labelled_groups for group in group_of]
    wanted_part: dict[int, Part | None] = {}
    for wanted in (True, False):
        some = [row for row, labelled in zip(rows, is_labelled, strict=True) if labelled == wanted]
        groups = [g for g, labelled in zip(group_of, is_labelled, strict=True) if labelled == wanted]
        labels = [class_ids[starts[place[row.id]] : starts[place[row.id] + 1]] for row in some]
        try:
            numbers = split_by_ratio(groups, ratios, np.random.default_rng(seed), labels)
        except ValueError as error:
            raise InputError(str(error)) from None
        numbers = cover_labels(numbers, groups, [set(each) for each in labels])
        wanted_part |= {row.id: PARTS[number] for row, number in zip(some, numbers, strict=True)}
    before = {row.id: row.part for row in rows}
    return {number: (before[number], part) for number, part in wanted_part.items() if before[number] != part}


def do_split(task: Task[SplitOrder]) -> PicturesSplit:
    """Split in the background: long to compute, and written in portions, so that nobody waits for it."""
    given = task.given
    task.reporter.progress(0, 1, "Choosing parts")
    with reading(task.sessions)() as session:
        moves = plan_split(session, given.project_id, given.ratios, given.seed, given.whole_sources)
    change_id = move_to_parts(task.sessions, given.project_id, "Pictures split", moves, task.reporter).id
    with reading(task.sessions)() as session:
        counts = labelled_by_part(session, given.project_id)
    return PicturesSplit(change_id=change_id, labelled=LabelledByPart(**counts))


class _Row(NamedTuple):
    """What a split looks at."""

    id: int
    state: PictureState
    part: Part | None
    clip_id: int | None
    source: str


def _check_enough_sources(labelled: Sequence[_Row], ratios: Sequence[float]) -> None:
    """Refuse a split that leaves a part empty only because sources are kept whole."""
    wanted = sum(ratio > 0 for ratio in ratios)
    whole, parted = ({_group(row, keep) for row in labelled} for keep in (True, False))
    if len(whole) < wanted <= len(parted):
        sources = sorted({row.source for row in labelled if row.source})
        raise InputError(
            f"the labelled pictures come from {', '.join(sources)}; kept whole they cannot fill {wanted} parts. "
            "Add pictures from elsewhere, ask for fewer parts, or let folders and archives be parted."
        )


def _group(row: _Row, whole_sources: bool) -> str:
    """What a picture must not be parted from."""
    if row.clip_id is not None:
        return f"clip {row.clip_id}"
    return f"source {row.source}" if whole_sources and row.source else f"picture {row.id}"


def set_part(sessions: Sessions, project_id: int, ids: Sequence[int], part: Part | None) -> Change:
    """Move pictures to a part by hand, or leave them unassigned; the change says how many and undoes it."""
    before: dict[int, Part | None] = {}
    with reading(sessions)() as session:
        for some in portions(ids):
            query = select(Picture.id, Picture.part).where(
                Picture.project_id == project_id, Picture.id.in_(some)
            )
            before |= {number: now for number, now in session.execute(query)}
    moves = {number: (now, part) for number, now in before.items() if now != part}
    title = f"{len(moves)} {'picture' if len(moves) == 1 else 'pictures'} moved to {part or 'unassigned'}"
    return move_to_parts(sessions, project_id, title, moves)


def move_to_parts(
    sessions: Sessions, project_id: int, title: str, moves: Moves, reporter: Reporter = SILENT
) -> Change:
    """Give pictures other parts as one change, written in portions."""
    with sessions.begin() as session:
        change = begin_change(session, project_id, title)
    numbers = sorted(moves)
    for start in range(0, len(numbers), AT_ONCE):
        some = numbers[start : start + AT_ONCE]
        with sessions.begin() as session:
            change_parts(session, change, {number: moves[number] for number in some})
        reporter.progress(start + len(some), len(numbers), f"{start + len(some)} of {len(numbers)} pictures")
    return change


def take_parts(session: Session, project_id: int, parts: Mapping[str, str]) -> dict[str, int]:
    """Put pictures that are unassigned into those named for them; returns labelled ones by part."""
    query = select(Picture).where(Picture.project_id == project_id, Picture.part.is_(None))
    for picture in session.scalars(query):
        if picture.name in parts:
            picture.part = Part(parts[picture.name])
    session.flush()
    return labelled_by_part(session, project_id)


def labelled_by_part(session: Session, project_id: int) -> dict[str, int]:
    """Labelled pictures in each part, and those in none as "unassigned"."""
    rows = session.execute(
        select(Picture.part, func.count())
        .where(Picture.project_id == project_id, Picture.binned_at.is_(None), Picture.state.in_(LABELLED))
        .group_by(Picture.part)
    )
    counts = {part.value: 0 for part in PARTS} | {"unassigned": 0}
    for part, count in rows:
        counts[part.value if part else "unassigned"] = count
    return counts
