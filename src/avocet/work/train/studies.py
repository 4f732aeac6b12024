"""How many pictures? Records of studies, and what they say."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from avocet.core.errors import InputError
from avocet.core.score.chance.saturation import Saturation, fit_saturation
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Study
from avocet.work.job_givens import ForStudy, RunOrder, StudyOrder
from avocet.work.job_kinds import STUDY, Task
from avocet.work.job_outcomes import StudyStarted
from avocet.work.jobs import create_job, give
from avocet.work.problems import by_number
from avocet.work.snapshots.snapshots import get_snapshot, record_snapshot
from avocet.work.train.runs import PreparedRun, prepare_run

SHARES = (0.25, 0.5, 0.75, 1.0)
LEAST_PICTURES = 4
WORTH = 0.02
"""Gain in mAP that twice as many pictures are worth labelling for."""


@dataclass(frozen=True)
class Verdict:
    """What a finished study says.

    Attributes
    ----------
    pictures : int
        Training pictures there are.
    curve : Saturation
        Fitted to mAP at 0.50:0.95.
    words : str
    """

    pictures: int
    curve: Saturation
    words: str


def start_study(
    session: Session,
    folder: DataFolder,
    project_id: int,
    chosen: dict[str, Any],
    steps: int,
    seeds: int,
    snapshot_id: int | None = None,
) -> Study:
    """Record a study that waits for the worker.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    project_id : int
    chosen : dict
        Settings as for a run; epochs follow from ``steps``.
    steps : int
        Training steps of each training: equal budgets, whatever the number of pictures.
    seeds : int
        Trainings of each number of pictures.
    snapshot_id : int, optional

    Raises
    ------
    InputError
        If there are too few pictures, or a run could not be started.
    """
    given = StudyOrder(
        project_id=project_id, settings=chosen, steps=steps, seeds=seeds, snapshot_id=snapshot_id
    )
    return record_study(session, prepare_study(session, folder, given))


@dataclass(frozen=True)
class PreparedStudy:
    """A study whose labels are read and whose settings are checked; it only needs to be recorded."""

    run: PreparedRun
    order: StudyOrder


def check_study(steps: int, seeds: int) -> None:
    """Raise `InputError` unless a study may have so many steps and seeds."""
    if not 20 <= steps <= 100_000 or not 1 <= seeds <= 10:
        raise InputError(f"a study takes 20 to 100,000 steps and 1 to 10 seeds, not {steps} and {seeds}")


def check_pictures(training: int) -> None:
    """Raise `InputError` where there are too few training pictures for a study."""
    if training < LEAST_PICTURES:
        raise InputError(f"a study needs at least {LEAST_PICTURES} training pictures, not {training}")


def prepare_study(session: Session, folder: DataFolder, order: StudyOrder) -> PreparedStudy:
    """Read and check everything that `start_study` needs."""
    check_study(order.steps, order.seeds)
    wanted = RunOrder(
        project_id=order.project_id,
        settings=order.settings | {"epochs": 1},
        snapshot_id=order.snapshot_id,
        on_cluster=order.on_cluster,
    )
    prepared = prepare_run(session, folder, wanted)
    check_pictures(prepared.training)
    return PreparedStudy(prepared, order)


def record_study(session: Session, prepared: PreparedStudy) -> Study:
    """Record a prepared study that waits for the worker."""
    order, settings, most = prepared.order, prepared.run.settings, prepared.run.training
    if prepared.run.snapshot is not None:
        snapshot = record_snapshot(session, order.project_id, prepared.run.snapshot)
    else:
        assert order.snapshot_id is not None
        snapshot = get_snapshot(session, order.snapshot_id)
    counts = sorted({max(1, round(share * most)) for share in SHARES})
    rounds = [
        {"pictures": count, "seed": settings.seed + seed} for seed in range(order.seeds) for count in counts
    ]
    job = create_job(session, order.project_id, STUDY, "How many pictures?")
    job.total = len(rounds) * order.steps
    study = Study(
        project_id=order.project_id,
        snapshot=snapshot,
        job=job,
        settings=settings.as_record() | {"steps": order.steps},
        plan=rounds,
    )
    session.add(study)
    session.flush()
    give(job, STUDY, ForStudy(study_id=study.id, on_cluster=order.on_cluster))
    return study


def do_start(task: Task[StudyOrder]) -> StudyStarted:
    """Freeze the labels and record the study, in the background, then hand it over."""
    task.reporter.progress(0, 2, "Freezing the labels")
    with reading(task.sessions)() as session:
        prepared = prepare_study(session, task.folder, task.given)
    with task.sessions.begin() as session:
        study = record_study(session, prepared)
        study_id, job_id = study.id, study.job.id
    task.enqueue(job_id, STUDY.key)
    return StudyStarted(study_id=study_id)


def get_study(session: Session, study_id: int) -> Study:
    """The study, or `NotFound`."""
    return by_number(session, Study, study_id, "study")


def list_studies(session: Session, project_id: int) -> list[Study]:
    """The project's studies, newest first."""
    query = (
        select(Study)
        .options(joinedload(Study.snapshot), joinedload(Study.job))
        .where(Study.project_id == project_id)
        .order_by(Study.id.desc())
    )
    return list(session.scalars(query))


def training_pictures(study: Study) -> int:
    """The most training pictures of the study."""
    return max(int(each["pictures"]) for each in study.plan)


def verdict(study: Study) -> Verdict | None:
    """What the study says so far; None before three numbers of pictures were measured."""
    measured = [(each["pictures"], each["map"]) for each in study.results]
    if len({pictures for pictures, _ in measured}) < 3:
        return None
    most = training_pictures(study)
    curve = fit_saturation(
        [pictures for pictures, _ in measured],
        [value for _, value in measured],
        2 * most,
        np.random.default_rng(study.id),
    )
    return Verdict(most, curve, _in_words(curve, most))


def _in_words(curve: Saturation, most: int) -> str:
    said = (
        f"Twice as many pictures ({2 * most}) would bring mAP at 0.50:0.95 from about {curve.now:.2f} to "
        f"between {curve.low:.2f} and {curve.high:.2f}, whichever way the curve goes on. "
    )
    advice = {
        True: "More pictures are worth the labelling.",
        False: "More of the same pictures bring little; look at labels, size and side instead.",
        None: "Whether they are worth the labelling cannot be told; more seeds would.",
    }
    return said + advice[curve.worth(WORTH)]
