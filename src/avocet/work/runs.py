"""Runs as records: starting, resuming, extending, naming, models."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.detector.settings import Settings, settings_from
from avocet.files import copy_file
from avocet.store.folder import DataFolder
from avocet.store.tables import JobState, Part, Run, Snapshot, now
from avocet.work.jobs import again, create_job
from avocet.work.planning import Plan, held_out_hash, plan_run
from avocet.work.problems import NotFound
from avocet.work.projects import get_project
from avocet.work.snapshots import Frozen, freeze, get_snapshot, labels_now, read_snapshot

Start = int | Path | Literal["shipped"] | None
"""Starting weights: a run's number, a bundle's path, those shipped with the package, or none."""

START_BUNDLE = "start.zip"


def chosen_settings(plan: Plan, chosen: dict[str, Any]) -> Settings:
    """Settings as chosen; what is missing or None is chosen from the labels. Raises `InputError`."""
    given = {key: value for key, value in chosen.items() if value is not None}
    passes = int(given.setdefault("passes", plan.passes))
    shown = plan.epochs * plan.passes
    given.setdefault("epochs", max(1, round(shown / max(1, passes))))
    varied = {key: value for key, value in (given.get("augmentation") or {}).items() if value is not None}
    varied.setdefault("flips", "all" if plan.every_direction else "sideways")
    return settings_from(given | {"augmentation": varied})


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
        Settings as in `avocet.detector.settings.Settings`; what is missing or None is chosen
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
    frozen, snapshot = labels_to_learn(session, folder, project_id, snapshot_id)
    plan = plan_run(frozen, int(chosen.get("side") or 416), int(chosen.get("batch") or 8))
    settings = chosen_settings(plan, chosen)
    if plan.obstacles:
        raise InputError("; ".join(plan.obstacles))
    held_out = {picture.id for picture in frozen.pictures if picture.part == Part.VALIDATION}
    strange = [each for each in watched if each not in held_out]
    if strange:
        raise InputError(f"picture {strange[0]} is not a validation picture, so it cannot be watched")
    snapshot = snapshot or freeze(session, folder, project_id)
    counted = session.scalar(select(func.count(Run.id)).where(Run.project_id == project_id)) or 0
    title = name.strip()[:200] or f"{settings.size.capitalize()} {counted + 1}"
    job = create_job(session, project_id, "train", f"Train {title}")
    job.total = settings.all_epochs * -(-plan.training * settings.passes // settings.batch)
    run = Run(
        project_id=project_id,
        snapshot=snapshot,
        job=job,
        name=title,
        settings=settings.as_record(),
        held_out=held_out_hash(frozen),
        watched=list(watched),
    )
    session.add(run)
    session.flush()
    job.arguments = {"run_id": run.id}
    run.facts = {
        "start": _keep_start(session, folder, run, settings, start),
        "classes": frozen.classes,
    }
    return run


def _keep_start(session: Session, folder: DataFolder, run: Run, settings: Settings, start: Start) -> str:
    """Put the starting weights beside the run, so that it does not depend on what becomes of them."""
    if start is None or start == "shipped":
        return start or ""
    target = folder.run(run.project_id, run.id) / START_BUNDLE
    if isinstance(start, Path):
        if not start.is_file():
            raise InputError(f"{start}: there is no such model bundle")
        copy_file(start, target)
        return start.name
    assert isinstance(start, int)
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


def extend_run(session: Session, run_id: int, epochs: int) -> Run:
    """Add epochs to a finished run, which goes on from its latest weights.

    Raises
    ------
    InputError
        If the run is not done, or the number of epochs cannot be used.
    """
    run = get_run(session, run_id)
    if run.job.state != JobState.DONE:
        raise InputError(f"{run.name} is {run.job.state.value}; only a run that is done can be extended")
    before = settings_from(run.settings)
    longer = settings_from(run.settings | {"extended": [*before.extended, epochs]})
    run.settings = longer.as_record()
    run.job.total = run.job.total * longer.all_epochs // max(1, before.all_epochs)
    run.job.state, run.job.ended_at, run.job.stop_requested = JobState.WAITING, None, False
    run.job.message = ""
    # Scores chosen for the weights as they were say nothing of those to come.
    run.minimum_scores = {}
    return run


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
    """Put a run into the bin, or take it back. One that is at work cannot be binned."""
    run = get_run(session, run_id)
    if binned and run.job.state in (JobState.RUNNING, JobState.WAITING):
        raise InputError(f"{run.name} is {run.job.state.value}; stop it first")
    run.binned_at = now() if binned else None
    return run


def get_run(session: Session, run_id: int) -> Run:
    """The run, or `NotFound`."""
    run = session.get(Run, run_id)
    if run is None:
        raise NotFound(f"there is no run {run_id}")
    return run


def list_runs(session: Session, project_id: int, binned: bool = False) -> list[Run]:
    """The project's runs, or those in its bin, newest first."""
    query = select(Run).where(Run.project_id == project_id).order_by(Run.id.desc())
    return list(
        session.scalars(query.where(Run.binned_at.is_not(None) if binned else Run.binned_at.is_(None)))
    )


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
