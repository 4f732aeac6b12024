"""Runs as records: starting, resuming, extending, naming, models."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session, joinedload

from avocet.core.errors import InputError
from avocet.detector.training.settings import Settings, settings_from
from avocet.files import copy_file
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.store.tables import JobState, Part, Run, Snapshot, now
from avocet.work.cluster.asked import cluster_if
from avocet.work.job_givens import ForRun, RunOrder
from avocet.work.job_kinds import TRAIN, TRAIN_APART, Task
from avocet.work.job_outcomes import RunStarted
from avocet.work.jobs import again, create_job, give
from avocet.work.problems import NotFound, by_number
from avocet.work.project.projects import get_project
from avocet.work.snapshots.frozen import Frozen
from avocet.work.snapshots.snapshots import (
    PreparedSnapshot,
    get_snapshot,
    keep_snapshot,
    labels_now,
    packed,
    read_snapshot,
    record_snapshot,
)
from avocet.work.train.ahead.choices import chosen_settings
from avocet.work.train.ahead.plan import DEFAULT_BATCH, Plan, held_out_hash, plan_run
from avocet.work.train.ahead.run_labels import RunLabels, labels_of_snapshot

Start = int | Path | Literal["shipped"] | None
"""Starting weights: a run's number, a bundle's path, those shipped with the package, or none."""

START_BUNDLE, CHECKPOINT = "start.zip", "latest.safetensors"

EIGHT_BITS = "eight_bits"
"""The fact of a run that says what its model is in 8 bits."""


def labels_to_learn(
    session: Session, folder: DataFolder, project_id: int, snapshot_id: int | None
) -> tuple[Frozen, Snapshot | None]:
    """Labels as they are now, or as one of the project's snapshots holds them."""
    get_project(session, project_id)
    if snapshot_id is None:
        return labels_now(session, project_id), None
    snapshot = get_snapshot(session, snapshot_id)
    if snapshot.project_id != project_id:
        raise NotFound(f"the project has no snapshot {snapshot_id}")
    return read_snapshot(folder, snapshot), snapshot


@dataclass(frozen=True)
class PreparedRun:
    """A run whose labels are read and hashed, and whose settings are checked; it only needs to be recorded.

    ``snapshot`` is to be recorded first, unless the run learns from one that is there.
    """

    order: RunOrder
    settings: Settings
    frozen: Frozen
    training: int
    snapshot: PreparedSnapshot | None


def start_run(
    session: Session,
    folder: DataFolder,
    project_id: int,
    chosen: dict[str, Any],
    name: str = "",
    snapshot_id: int | None = None,
    start: Start = None,
    watched: Sequence[int] = (),
) -> Run:
    """Freeze the labels, or take a snapshot, and record a run that waits for the worker.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    project_id : int
    chosen : dict
        Settings as in `avocet.detector.training.settings.Settings`; what is missing or None is chosen
        from the labels.
    name : str
    snapshot_id : int, optional
        Of the snapshot to train on; by default the labels as they are now.
    start : int, Path or 'shipped', optional
        Starting weights; what fits is taken over when the run begins.
    watched : sequence of int
        Numbers of the validation pictures to watch; by default they are drawn by seed.

    Raises
    ------
    InputError
        If a setting cannot be used or the labels do not allow a run.
    """
    order = RunOrder(
        project_id=project_id, settings=chosen, name=name, snapshot_id=snapshot_id,
        start=str(start) if isinstance(start, Path) else start, watched=list(watched),
    )  # fmt: skip
    prepared = prepare_run(session, folder, order)
    return record_run(session, folder, prepared)


def check_run(labels: RunLabels, order: RunOrder) -> tuple[Plan, Settings]:
    """The plan of a run and its settings in full. Raises `InputError` where it cannot be started."""
    if order.on_cluster and order.apart:
        raise InputError(
            "a run is trained by all machines of the cluster together or by one of them, not both"
        )
    cluster_if(order.on_cluster or order.apart)
    side, batch = order.settings.get("side"), order.settings.get("batch")
    plan = plan_run(labels, int(side) if side else None, int(batch or DEFAULT_BATCH))
    settings = chosen_settings(plan, order.settings)
    if plan.obstacles:
        raise InputError("; ".join(plan.obstacles))
    columns = labels.columns
    held_out = set(columns.picture_ids[columns.in_part(Part.VALIDATION)].tolist())
    strange = [each for each in order.watched if each not in held_out]
    if strange:
        raise InputError(f"picture {strange[0]} is not a validation picture, so it cannot be watched")
    return plan, settings


def prepare_run(session: Session, folder: DataFolder, order: RunOrder) -> PreparedRun:
    """Read and check everything that `start_run` needs, which for many boxes takes seconds."""
    frozen, there = labels_to_learn(session, folder, order.project_id, order.snapshot_id)
    plan, settings = check_run(labels_of_snapshot(frozen), order)
    snapshot = None if there is not None else packed(frozen)
    if snapshot is not None:
        keep_snapshot(folder, order.project_id, snapshot)
    return PreparedRun(order, settings, frozen, plan.training, snapshot)


def record_run(session: Session, folder: DataFolder, prepared: PreparedRun) -> Run:
    """Record a prepared run that waits for the worker."""
    order, settings = prepared.order, prepared.settings
    project_id = order.project_id
    if prepared.snapshot is not None:
        snapshot = record_snapshot(session, project_id, prepared.snapshot)
    else:
        assert order.snapshot_id is not None
        snapshot = get_snapshot(session, order.snapshot_id)
    counted = session.scalar(select(func.count(Run.id)).where(Run.project_id == project_id)) or 0
    title = order.name.strip()[:200] or f"{settings.size.capitalize()} {counted + 1}"
    kind = TRAIN_APART if order.apart else TRAIN
    job = create_job(session, project_id, kind, f"Train {title}")
    job.total = settings.all_epochs * -(-prepared.training * settings.passes // settings.batch)
    run = Run(
        project_id=project_id,
        snapshot=snapshot,
        job=job,
        name=title,
        settings=settings.as_record(),
        held_out=held_out_hash(prepared.frozen),
        watched=list(order.watched),
    )
    session.add(run)
    session.flush()
    give(job, kind, ForRun(run_id=run.id, on_cluster=order.on_cluster))
    run.facts = {
        "start": _keep_start(session, folder, run, settings, order.start),
        "classes": prepared.frozen.classes,
    }
    return run


def do_start(task: Task[RunOrder]) -> RunStarted:
    """Freeze the labels and record the run, in the background, then hand the training over."""
    task.reporter.progress(0, 2, "Freezing the labels")
    with reading(task.sessions)() as session:
        prepared = prepare_run(session, task.folder, task.given)
    task.reporter.progress(1, 2, "Recording the run")
    with task.sessions.begin() as session:
        run = record_run(session, task.folder, prepared)
        run_id, job_id, kind = run.id, run.job.id, run.job.kind
    task.enqueue(job_id, kind)
    return RunStarted(run_id=run_id)


def _keep_start(
    session: Session, folder: DataFolder, run: Run, settings: Settings, start: int | str | None
) -> str:
    """Put the starting weights beside the run, so that it does not depend on what becomes of them."""
    if start is None or start == "shipped":
        return start or ""
    target = folder.run(run.project_id, run.id) / START_BUNDLE
    if isinstance(start, str):
        bundle = Path(start)
        if not bundle.is_file():
            raise InputError(f"{bundle}: there is no such model bundle")
        copy_file(bundle, target)
        return bundle.name
    earlier = get_run(session, start)
    if earlier.settings.get("size") != settings.size:
        raise InputError(
            f"run {earlier.name!r} is a {str(earlier.settings.get('size')).capitalize()}; its weights do not "
            f"fit a {settings.size.capitalize()}. Choose the same size."
        )
    copy_file(model_path(folder, earlier), target)
    return f"run {earlier.name}"


def resume_run(session: Session, run_id: int) -> Run:
    """Let a stopped, failed or interrupted run go on after its last kept epoch."""
    run = get_run(session, run_id)
    again(session, run.job_id)
    return run


def extend_run(session: Session, folder: DataFolder, run_id: int, epochs: int) -> Run:
    """Add epochs to a finished run, which goes on from its latest weights.

    Raises
    ------
    InputError
        If the run is not done, its checkpoint is not kept, or the number of epochs cannot be used.
    """
    run = get_run(session, run_id)
    if run.job.state != JobState.DONE:
        raise InputError(f"{run.name} is {run.job.state.value}; only a run that is done can be extended")
    if not (folder.run(run.project_id, run.id) / CHECKPOINT).is_file():
        raise InputError(
            f"what {run.name} would go on from is not kept; start a new run from its weights instead"
        )
    before = settings_from(run.settings)
    longer = settings_from(run.settings | {"extended": [*before.extended, epochs]})
    run.settings = longer.as_record()
    run.job.total = run.job.total * longer.all_epochs // max(1, before.all_epochs)
    run.job.state, run.job.ended_at, run.job.stop_requested = JobState.WAITING, None, False
    run.job.message = ""
    # Scores chosen for the weights as they were say nothing of those to come.
    run.minimum_scores = {}
    return run


def steps_per_epoch(run: Run) -> int:
    """Steps of an epoch, as far as they are known."""
    return max(1, run.job.total // max(1, settings_from(run.settings).all_epochs))


def describe_run(session: Session, run_id: int, name: str | None, note: str | None) -> Run:
    """Give a run another name or note."""
    run = get_run(session, run_id)
    if name is not None:
        if not name.strip():
            raise InputError("a run needs a name")
        run.name = name.strip()[:200]
    if note is not None:
        run.note = note.strip()[:5000]
    return run


def bin_run(session: Session, run_id: int, binned: bool) -> Run:
    """Move a run to the bin, or restore it. One that is at work cannot be binned."""
    run = get_run(session, run_id)
    if binned and run.job.state in (JobState.RUNNING, JobState.WAITING):
        raise InputError(f"{run.name} is {run.job.state.value}; stop it first")
    run.binned_at = now() if binned else None
    return run


def get_run(session: Session, run_id: int) -> Run:
    """The run, or `NotFound`."""
    return by_number(session, Run, run_id, "run")


def list_runs(session: Session, project_id: int, binned: bool = False) -> list[Run]:
    """The project's runs, or those in its bin, newest first."""
    query = select(Run).options(joinedload(Run.snapshot), joinedload(Run.job))
    query = query.where(Run.project_id == project_id).order_by(Run.id.desc())
    return list(
        session.scalars(query.where(Run.binned_at.is_not(None) if binned else Run.binned_at.is_(None)))
    )


def newest_model(folder: DataFolder, run: Run) -> Path:
    """The latest checkpoint's bundle, or the best one's where only that is kept. Raises `NotFound` before there is one."""
    return model_path(folder, run, "latest" if "latest" in kept_models(folder, run) else "best")


def model_path(folder: DataFolder, run: Run, which: str = "best") -> Path:
    """The run's best or latest model bundle. Raises `NotFound` before the first validation."""
    path = folder.run(run.project_id, run.id) / f"{which}.zip"
    if not path.is_file():
        raise NotFound(f"run {run.name!r} has no {which} checkpoint yet")
    return path


def kept_models(folder: DataFolder, run: Run) -> list[str]:
    """Names of the run's checkpoints that can be used: best, latest and those of single epochs."""
    place = folder.run(run.project_id, run.id)
    single = sorted(path.stem for path in place.glob("epoch-*.zip"))
    return [name for name in ("best", "latest") if (place / f"{name}.zip").is_file()] + single


def save_model(folder: DataFolder, run: Run, target: Path, copy: Callable[[Path, Path], None]) -> None:
    """Copy the run's best model bundle to ``target``."""
    copy(model_path(folder, run), target)
