"""Which pictures are for training, for validation and for the test."""

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

import numpy as np
from sqlalchemy import ColumnElement, String, case, cast, distinct, func, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.labels.splitting import cover_labels, cut_by_ratio, split_by_ratio
from avocet.store.database import Sessions, reading
from avocet.store.tables import Part, Picture, PictureState
from avocet.work.job_givens import SplitOrder
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import ChangeMade, LabelledByPart, PicturesSplit
from avocet.work.labels.columns import read_columns
from avocet.work.labels.states import LABELLED
from avocet.work.pictures.filing import set_parts
from avocet.work.progress import SILENT, Reporter
from avocet.work.project.projects import get_project

PARTS = (Part.TRAINING, Part.VALIDATION, Part.TEST)


def split_pictures(
    sessions: Sessions, project_id: int, ratios: Sequence[float], seed: int, whole_sources: bool = True,
    reporter: Reporter = SILENT,
) -> ChangeMade:  # fmt: skip
    """Plan a split and carry it out; see `plan_split`."""
    with reading(sessions)() as session:
        parts = plan_split(session, project_id, ratios, seed, whole_sources)
    return set_parts(sessions, project_id, parts, "moved by a split", reporter)


def plan_split(
    session: Session, project_id: int, ratios: Sequence[float], seed: int, whole_sources: bool = True
) -> dict[Part | None, list[int]]:
    """Assign every picture of the project to a part, whole clips together, classes in proportion.

    Where there are too few clips for that, as of somebody who has filmed once, each is cut into consecutive stretches, one for
    each part.

    Labelled pictures and unlabelled ones are split each for themselves, so that the labelled
    ones follow the ratio too; unlabelled ones of a clip or source that has labelled ones go with these. A class that would have no
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
        For each part the pictures that get it and had another.

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
            select(
                Picture.id, Picture.state, Picture.part, Picture.clip_id, Picture.frame_number, Picture.source
            )
            .where(Picture.project_id == project_id, Picture.binned_at.is_(None))
            .order_by(Picture.content_hash)
        )
    ]
    labelled = [row for row in rows if row.state in LABELLED]
    if whole_sources:
        _check_enough_sources(labelled, ratios)
    cuts = _cuts(labelled, ratios, whole_sources)
    columns = read_columns(session, project_id)
    starts = np.searchsorted(columns.owner, np.arange(len(columns.picture_ids) + 1))
    place = {number: index for index, number in enumerate(columns.picture_ids.tolist())}
    class_ids = columns.class_ids.tolist()
    group_of = {row.id: _group(row, whole_sources, cuts) for row in rows}
    labelled_groups = {group_of[row.id] for row in labelled}
    others = [row for row in rows if group_of[row.id] not in labelled_groups]
    part_of: dict[str, Part] = {}
    for some in (labelled, others):
        groups = [group_of[row.id] for row in some]
        labels = [class_ids[starts[place[row.id]] : starts[place[row.id] + 1]] for row in some]
        try:
            numbers = split_by_ratio(groups, ratios, np.random.default_rng(seed), labels)
        except ValueError as error:
            raise InputError(str(error)) from None
        numbers = cover_labels(numbers, groups, [set(each) for each in labels])
        part_of |= {group: PARTS[number] for group, number in zip(groups, numbers, strict=True)}
    wanted_part = {row.id: part_of[group_of[row.id]] for row in rows}
    moved = [row for row in rows if row.part != wanted_part[row.id]]
    return {part: [row.id for row in moved if wanted_part[row.id] == part] for part in PARTS}


def do_split(task: Task[SplitOrder]) -> PicturesSplit:
    """Split in the background: long to compute."""
    given = task.given
    task.reporter.progress(0, 1, "Choosing parts")
    made = split_pictures(
        task.sessions, given.project_id, given.ratios, given.seed, given.whole_sources, task.reporter
    )
    with reading(task.sessions)() as session:
        counts = labelled_by_part(session, given.project_id)
    return PicturesSplit(change_id=made.change_id, labelled=LabelledByPart(**counts))


class _Row(NamedTuple):
    """What a split looks at."""

    id: int
    state: PictureState
    part: Part | None
    clip_id: int | None
    frame_number: int | None
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


def _cuts(labelled: Sequence[_Row], ratios: Sequence[float], whole_sources: bool) -> dict[int, list[int]]:
    """Of every clip that is cut the first frame of each stretch but the first; nothing where clips can stay whole."""
    wanted = sum(ratio > 0 for ratio in ratios)
    if min(ratios) < 0 or len({_group(row, whole_sources) for row in labelled}) >= wanted:
        return {}
    frames: dict[int, list[int]] = {}
    for row in labelled:
        if row.clip_id is not None:
            frames.setdefault(row.clip_id, []).append(row.frame_number or 0)
    cuts = {}
    for clip, numbers in frames.items():
        stretches = cut_by_ratio(len(numbers), ratios)
        cuts[clip] = [sorted(numbers)[place] for place in np.flatnonzero(np.diff(stretches)) + 1]
    return cuts


def _group(row: _Row, whole_sources: bool, cuts: Mapping[int, list[int]] = MappingProxyType({})) -> str:
    """What a picture must not be parted from."""
    if row.clip_id is not None:
        return f"clip {row.clip_id}, stretch {bisect_right(cuts.get(row.clip_id, []), row.frame_number or 0)}"
    return f"source {row.source}" if whole_sources and row.source else f"picture {row.id}"


class Wholes(NamedTuple):
    """Into how many parts the labelled pictures could be split with every clip kept whole, and with or without every source."""

    with_sources: int
    clips_only: int


def count_wholes(session: Session, project_id: int) -> Wholes:
    """How many things the labelled pictures come from that a split keeps whole."""
    clip = "clip " + cast(Picture.clip_id, String)
    itself = "picture " + cast(Picture.id, String)
    of_clip = (Picture.clip_id.is_not(None), clip)
    with_sources = case(of_clip, (Picture.source != "", "source " + Picture.source), else_=itself)
    clips_only = case(of_clip, else_=itself)
    counted = session.execute(
        select(func.count(distinct(with_sources)), func.count(distinct(clips_only))).where(
            *_labelled(project_id)
        )
    )
    return Wholes(*counted.one())


def labelled_by_part(session: Session, project_id: int) -> dict[str, int]:
    """Labelled pictures in each part, and those in none as "unassigned"."""
    rows = session.execute(
        select(Picture.part, func.count()).where(*_labelled(project_id)).group_by(Picture.part)
    )
    counts = {part.value: 0 for part in PARTS} | {"unassigned": 0}
    for part, count in rows:
        counts[part.value if part else "unassigned"] = count
    return counts


def _labelled(project_id: int) -> tuple[ColumnElement[bool], ...]:
    return Picture.project_id == project_id, Picture.binned_at.is_(None), Picture.state.in_(LABELLED)
