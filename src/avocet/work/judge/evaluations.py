"""Evaluations as records: what is measured on which pictures."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session, joinedload

from avocet.core.errors import InputError
from avocet.core.score.measurement import AREA_BOUNDS
from avocet.core.score.precision import INTERPOLATIONS
from avocet.files import move_file
from avocet.store.folder import DataFolder
from avocet.store.tables import Evaluation, JobState, Part, now
from avocet.work.cluster.asked import cluster_if
from avocet.work.job_givens import ForEvaluation
from avocet.work.job_kinds import EVALUATE
from avocet.work.jobs import create_job, give
from avocet.work.models.bundles import bundles_of
from avocet.work.models.ensembles import get_ensemble
from avocet.work.problems import NotFound, by_number
from avocet.work.project.projects import get_project
from avocet.work.snapshots.snapshots import get_snapshot, read_summary
from avocet.work.train.runs import get_run

TRUTH, MODEL, DETECTIONS = "truth", "model", "detections"
SENT = (TRUTH, MODEL, DETECTIONS)
"""What can be sent along."""


@dataclass(frozen=True)
class Order:
    """What to measure, on what, and how.

    Attributes
    ----------
    run_id, ensemble_id : int, optional
        The model, unless a bundle or detections are sent along.
    checkpoint : str
        Of the run: best, latest or a single epoch.
    snapshot_id : int, optional
        The truth, by default the snapshot that the run was trained on, unless one is sent along.
    part : Part, optional
        Of the snapshot.
    interpolation : str
        One of `avocet.core.score.precision.INTERPOLATIONS`.
    areas : (float, float)
        Bounds of small and medium objects: side of a square in pixels.
    class_map : mapping of str to str
        For the model's classes, or the category ids of sent detections: the truth's class.
    """

    run_id: int | None = None
    ensemble_id: int | None = None
    checkpoint: str = "best"
    snapshot_id: int | None = None
    part: Part | None = Part.VALIDATION
    interpolation: str = "101-point"
    areas: tuple[float, float] = AREA_BOUNDS
    class_map: Mapping[str, str] = field(default_factory=dict)
    on_cluster: bool = False

    @property
    def settings(self) -> dict[str, Any]:
        return {
            "checkpoint": self.checkpoint,
            "interpolation": self.interpolation,
            "areas": list(self.areas),
            "class_map": dict(self.class_map),
        }


@dataclass(frozen=True)
class PreparedEvaluation:
    """What is to be measured on what, checked; it only needs to be recorded."""

    project_id: int
    order: Order
    files: Mapping[str, tuple[Path, str]]
    name: str
    where: str
    snapshot_id: int | None


def start_evaluation(
    session: Session,
    folder: DataFolder,
    project_id: int,
    order: Order,
    sent: Mapping[str, tuple[Path, str]] | None = None,
) -> Evaluation:
    """Record an evaluation that waits for the worker.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    project_id : int
    order : Order
    sent : mapping of str to (Path, str), optional
        Files by what they are, each with its sender's name; they are moved beside the evaluation.

    Raises
    ------
    InputError
        If model or truth is missing, or a setting cannot be used.
    NotFound
        If something belongs to another project, or a run has no model yet.
    """
    return record_evaluation(
        session, folder, prepare_evaluation(session, folder, project_id, order, sent or {})
    )


def prepare_evaluation(
    session: Session,
    folder: DataFolder,
    project_id: int,
    order: Order,
    files: Mapping[str, tuple[Path, str]],
) -> PreparedEvaluation:
    """Check what `start_evaluation` records; raises as it does."""
    get_project(session, project_id)
    cluster_if(order.on_cluster)
    _check(order)
    run = get_run(session, order.run_id) if order.run_id is not None else None
    ensemble = get_ensemble(session, order.ensemble_id) if order.ensemble_id is not None else None
    chosen = [each for each in (run, ensemble, files.get(MODEL), files.get(DETECTIONS)) if each is not None]
    if len(chosen) != 1:
        raise InputError("choose one model: a run, an ensemble, a bundle or a file of detections")
    owned = run if run is not None else ensemble
    if owned is not None:
        if owned.project_id != project_id:
            raise NotFound(f"the project has no such model ({owned.name})")
        bundles_of(session, folder, run, ensemble, order.checkpoint)
        name = owned.name
        if run is not None and order.checkpoint != "best":
            kind, _, number = order.checkpoint.partition("-")
            name += f", {kind} {int(number)}" if number else f", {kind}"
    else:
        name = (files.get(MODEL) or files[DETECTIONS])[1]
    snapshot = None
    if TRUTH not in files:
        wanted = order.snapshot_id or (run.snapshot_id if run is not None else None)
        if wanted is None:
            raise InputError("choose a snapshot to measure on, or send a truth")
        snapshot = get_snapshot(session, wanted)
        if snapshot.project_id != project_id:
            raise NotFound(f"the project has no snapshot {wanted}")
        if not any(each.part == order.part for each in read_summary(folder, snapshot).parts):
            called = f"the {order.part.value} part" if order.part else "none"
            raise InputError(f"the snapshot {snapshot.content_hash[:12]} has no labelled picture in {called}")
    where = files[TRUTH][1] if TRUTH in files else f"{order.part.value if order.part else ''}"
    return PreparedEvaluation(project_id, order, files, name, where, snapshot.id if snapshot else None)


def record_evaluation(session: Session, folder: DataFolder, prepared: PreparedEvaluation) -> Evaluation:
    """Record a prepared evaluation that waits for the worker."""
    order, files, project_id = prepared.order, prepared.files, prepared.project_id
    job = create_job(session, project_id, EVALUATE, f"Measure {prepared.name} on {prepared.where}")
    evaluation = Evaluation(
        project_id=project_id,
        run_id=order.run_id,
        ensemble_id=order.ensemble_id,
        snapshot_id=prepared.snapshot_id,
        job=job,
        name=prepared.name,
        part=order.part if prepared.snapshot_id is not None else None,
        settings=order.settings | {"sent": {kind: called for kind, (_, called) in files.items()}},
    )
    session.add(evaluation)
    session.flush()
    give(job, EVALUATE, ForEvaluation(evaluation_id=evaluation.id, on_cluster=order.on_cluster))
    for kind, (path, called) in files.items():
        move_file(path, sent_file(folder, evaluation, kind, called))
    return evaluation


def measure_again(session: Session, evaluation_id: int, class_map: Mapping[str, str]) -> Evaluation:
    """Measure once more, with classes mapped to those of the truth.

    Figures that are there already stay until the new ones are, and with them the mapping they were made with.
    """
    evaluation = get_evaluation(session, evaluation_id)
    if not evaluation.job.state.ended:
        raise InputError(f"{evaluation.name} is being measured already")
    former = evaluation.job_id if evaluation.report else None
    given = ForEvaluation(evaluation_id=evaluation.id, class_map=dict(class_map), former_job_id=former)
    job = create_job(session, evaluation.project_id, EVALUATE, evaluation.job.title, given)
    evaluation.job = job
    session.flush()
    return evaluation


def sent_file(folder: DataFolder, evaluation: Evaluation, kind: str, called: str) -> Path:
    """Where a file that was sent along lies: under a name of our own, with its suffix."""
    suffix = "".join(Path(called).suffixes[-2:]).lower() if called.lower().endswith(".tar.gz") else ""
    suffix = suffix or Path(called).suffix.lower()
    return folder.evaluation_place(evaluation.project_id, evaluation.id) / f"{kind}-sent{suffix}"


def get_evaluation(session: Session, evaluation_id: int) -> Evaluation:
    """The evaluation, or `NotFound`."""
    return by_number(session, Evaluation, evaluation_id, "measurement")


def list_evaluations(session: Session, project_id: int, binned: bool = False) -> list[Evaluation]:
    """The project's evaluations, or those in the bin, newest first."""
    query = (
        select(Evaluation)
        .options(joinedload(Evaluation.snapshot), joinedload(Evaluation.job))
        .where(
            Evaluation.project_id == project_id,
            Evaluation.binned_at.is_not(None) if binned else Evaluation.binned_at.is_(None),
        )
    )
    return list(session.scalars(query.order_by(Evaluation.id.desc())))


def bin_evaluation(session: Session, evaluation_id: int, binned: bool) -> Evaluation:
    """Move a measurement to the bin, or restore it. One that is at work cannot be binned.

    Looks at the test part stay counted: what was seen was seen.
    """
    evaluation = get_evaluation(session, evaluation_id)
    if binned and evaluation.job.state in (JobState.RUNNING, JobState.WAITING):
        raise InputError(f"{evaluation.name} is being measured; stop it first")
    evaluation.binned_at = now() if binned else None
    return evaluation


def count_look(session: Session, evaluation_id: int) -> Evaluation:
    """Note that a person opened a finished evaluation."""
    evaluation = get_evaluation(session, evaluation_id)
    if evaluation.job.state == JobState.DONE:
        evaluation.looks += 1
    return evaluation


def looks_at_test(session: Session, project_id: int) -> int:
    """How often figures of a test part were opened in this project."""
    query = select(func.sum(Evaluation.looks)).where(
        Evaluation.project_id == project_id, Evaluation.part == Part.TEST
    )
    return int(session.scalar(query) or 0)


def _check(order: Order) -> None:
    if order.interpolation not in INTERPOLATIONS:
        raise InputError(
            f"unknown interpolation {order.interpolation!r}; there are {', '.join(INTERPOLATIONS)}"
        )
    small, medium = order.areas
    if not 0 < small < medium <= 1e5:
        raise InputError(f"the bounds of sizes must rise from above 0, not {small:g} and {medium:g} pixels")
