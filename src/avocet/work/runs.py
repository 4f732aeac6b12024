"""Runs as records: checking what there is to learn from, starting, resuming, models."""

from collections import Counter
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.letterbox import letterbox
from avocet.core.orientation import lie_in_every_direction
from avocet.detector.settings import Settings, default_epochs
from avocet.detector.sizes import SIZES, parameter_count
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, Run
from avocet.work.jobs import again, create_job
from avocet.work.problems import NotFound
from avocet.work.projects import get_project
from avocet.work.snapshots import Frozen, freeze, get_snapshot, labels_now, read_snapshot

LEARNABLE = 8
"""Boxes with a shorter side under this many input pixels are hard to learn."""


@dataclass(frozen=True)
class Plan:
    """What a run would be trained on, and what stands in its way.

    Attributes
    ----------
    training, validation, test, unassigned : int
        Labelled pictures in each part.
    boxes_by_class : dict
        Class name to boxes in the training part.
    obstacles : list of str
        A run cannot start while there are any.
    warnings : list of str
    epochs : int
        Suggested.
    every_direction : bool
        Objects lie in every direction, so pictures may be turned freely.
    parameters : dict
        Trainable parameters of each size for these classes.
    """

    training: int
    validation: int
    test: int
    unassigned: int
    boxes_by_class: dict[str, int]
    obstacles: list[str]
    warnings: list[str]
    epochs: int
    every_direction: bool
    parameters: dict[str, int]


def plan_run(frozen: Frozen, side: int = 416) -> Plan:
    """Say what a run would have to learn from labels as they are now, or as a snapshot holds them."""
    counts = Counter(picture.part.value if picture.part else "" for picture in frozen.pictures)
    names = dict(enumerate(frozen.classes))
    by_part: dict[str, Counter[str]] = {part.value: Counter() for part in Part}
    sizes, labels = [], []
    for picture in frozen.pictures:
        scale = letterbox(picture.width, picture.height, side)
        for label, x1, y1, x2, y2, crowd in picture.boxes:
            if picture.part is not None:
                by_part[picture.part.value][names[label]] += 1
            if picture.part == Part.TRAINING and not crowd:
                sizes.append(((x2 - x1) * scale.scale_x, (y2 - y1) * scale.scale_y))
                labels.append(label)
    learnt, held_out = by_part[Part.TRAINING.value], by_part[Part.VALIDATION.value]
    obstacles = _obstacles(counts, learnt, held_out, frozen.classes)
    warnings = [
        f"Class {name!r} has only {learnt[name]} training boxes"
        for name in names.values()
        if 0 < learnt[name] < 10
    ]
    warnings += [
        f"Class {name!r} has no training box and will never be found"
        for name in names.values()
        if not learnt[name] and not held_out[name]
    ]
    warnings += [
        f"Class {name!r} has no validation box, so its precision cannot be measured"
        for name in names.values()
        if learnt[name] and not held_out[name]
    ]
    small = sum(min(size) < LEARNABLE for size in sizes)
    if small:
        warnings.append(
            f"{small} of {len(sizes)} training boxes are under {LEARNABLE} pixels at side {side}; "
            "a larger side helps to find them"
        )
    return Plan(
        training=counts[Part.TRAINING],
        validation=counts[Part.VALIDATION],
        test=counts[Part.TEST],
        unassigned=counts[""],
        boxes_by_class={name: learnt[name] for name in names.values()},
        obstacles=obstacles,
        warnings=warnings,
        epochs=default_epochs(counts[Part.TRAINING]),
        every_direction=lie_in_every_direction(sizes, labels),
        parameters=_parameters(max(1, len(frozen.classes))),
    )


def _parameters(classes: int) -> dict[str, int]:
    return {name: parameter_count(size, classes) for name, size in SIZES.items()}


def _obstacles(
    counts: Counter[str], learnt: Counter[str], held_out: Counter[str], names: list[str]
) -> list[str]:
    if not names:
        return ["The project has no class yet; add one in Collect"]
    if not sum(counts.values()):
        return ["No picture is labelled yet; draw some boxes in Collect first"]
    obstacles = []
    for part, name in ((Part.TRAINING, "training"), (Part.VALIDATION, "validation")):
        if not counts[part]:
            obstacles.append(f"No labelled picture is in the {name} part; split the pictures")
    if counts[Part.TRAINING] and not learnt:
        obstacles.append("The labelled training pictures hold no box")
    obstacles += [
        f"Class {name!r} has {held_out[name]} boxes in the validation part but none in the training part"
        for name in names
        if held_out[name] and not learnt[name]
    ]
    return obstacles


def start_run(
    session: Session,
    folder: DataFolder,
    project_id: int,
    chosen: dict[str, Any],
    name: str = "",
    snapshot_id: int | None = None,
) -> Run:
    """Freeze the labels, or take a snapshot, and record a run that waits for the worker.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    project_id : int
    chosen : dict
        Settings as in `avocet.detector.trainer.Settings`; what is missing or None is chosen
        from the labels.
    name : str
    snapshot_id : int, optional
        Of the snapshot to train on; by default the labels as they are now.

    Raises
    ------
    InputError
        If a setting cannot be used or the labels do not allow a run.
    """
    get_project(session, project_id)
    given = {key: value for key, value in chosen.items() if value is not None}
    checked = Settings(**given)
    snapshot = get_snapshot(session, snapshot_id) if snapshot_id is not None else None
    if snapshot is not None and snapshot.project_id != project_id:
        raise NotFound(f"the project has no snapshot {snapshot_id}")
    frozen = read_snapshot(folder, snapshot) if snapshot else labels_now(session, project_id)
    plan = plan_run(frozen, checked.side)
    if plan.obstacles:
        raise InputError("; ".join(plan.obstacles))
    defaults: dict[str, Any] = {"epochs": plan.epochs, "flips": "all" if plan.every_direction else "sideways"}
    settings = Settings(**(defaults | given))
    snapshot = snapshot or freeze(session, folder, project_id)
    number = len(list(session.scalars(select(Run.id).where(Run.project_id == project_id)))) + 1
    title = name.strip() or f"{settings.size.capitalize()} {number}"
    job = create_job(session, project_id, "train", f"Train {title}")
    job.total = settings.epochs * -(-plan.training // settings.batch)
    run = Run(project_id=project_id, snapshot=snapshot, job=job, name=title, settings=asdict(settings))
    session.add(run)
    session.flush()
    job.arguments = {"run_id": run.id}
    return run


def resume_run(session: Session, run_id: int) -> Run:
    """Let a stopped, failed or interrupted run go on after its last kept epoch."""
    run = get_run(session, run_id)
    again(session, run.job_id)
    return run


def get_run(session: Session, run_id: int) -> Run:
    """The run, or `NotFound`."""
    run = session.get(Run, run_id)
    if run is None:
        raise NotFound(f"there is no run {run_id}")
    return run


def list_runs(session: Session, project_id: int) -> list[Run]:
    """The project's runs, newest first."""
    return list(session.scalars(select(Run).where(Run.project_id == project_id).order_by(Run.id.desc())))


def model_path(folder: DataFolder, run: Run, which: str = "best") -> Path:
    """The run's best or latest model bundle. Raises `NotFound` before the first validation."""
    path = folder.run(run.project_id, run.id) / f"{which}.zip"
    if not path.is_file():
        raise NotFound(f"run {run.name!r} has no {which} checkpoint yet")
    return path


def save_model(folder: DataFolder, run: Run, target: Path, copy: Callable[[Path, Path], None]) -> None:
    """Copy the run's best model bundle to ``target``."""
    copy(model_path(folder, run), target)
