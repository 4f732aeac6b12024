"""Training a run, as the worker and the command line do it."""

import os
import platform
from collections.abc import Callable
from dataclasses import asdict
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import psutil
import torch
from sqlalchemy import delete
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.detector.model.shipped import shipped_weights
from avocet.detector.model.starting import weights_of_bundle
from avocet.detector.training.reports import EpochReport
from avocet.detector.training.settings import Settings, settings_from
from avocet.detector.training.trainer import Training
from avocet.detector.training.watching import draw_watched, keep_watched
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, Run, RunEpoch
from avocet.work.cluster.asked import cluster_if
from avocet.work.cluster.training.apart import Runs, train_apart
from avocet.work.cluster.training.member import shipped_training
from avocet.work.cluster.training.teaming import train_together
from avocet.work.job_givens import ForRun
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import Trained
from avocet.work.progress import Reporter, Stopped
from avocet.work.snapshots.frozen import Frozen, frozen_file, labelled_pictures
from avocet.work.snapshots.snapshots import read_snapshot
from avocet.work.train.run_files import add_to_log
from avocet.work.train.runs import EIGHT_BITS, START_BUNDLE, get_run
from avocet.work.train.step_losses import StepLosses
from avocet.work.train.watch import keep_watched_pictures


def train_run(
    sessions: Sessions,
    folder: DataFolder,
    run_id: int,
    reporter: Reporter,
    cluster: str | None = None,
    apart: bool = False,
) -> Trained:
    """Train a run to its end, from its last checkpoint if it has one.

    Parameters
    ----------
    sessions : Sessions
    folder : DataFolder
    run_id : int
    reporter : Reporter
    cluster : str, optional
        Address of the machines that train it together.
    apart : bool
        One of them alone trains it.

    Raises
    ------
    Stopped
        If a person stopped it; everything up to the last finished epoch is kept.
    InputError
        If a picture is gone, the disk is full or the loss is no longer finite.
    """
    with sessions() as session:
        run = get_run(session, run_id)
        frozen, snapshot_hash = read_snapshot(folder, run.snapshot), run.snapshot.content_hash
    place, settings = folder.run(run.project_id, run.id), settings_from(run.settings)
    training = prepare(frozen, folder, run.project_id, settings, place, snapshot_hash)
    try:
        together = None
        if cluster is not None:
            shipped = shipped_training(training, frozen, folder, run.project_id)
            away = train_apart if apart else train_together
            together = partial(away, cluster, training, shipped, f"Training {run.name}")
        return _train(sessions, training, frozen, run, settings, place, reporter, together)
    finally:
        training.close()


def do_training(task: Task[ForRun]) -> Trained:
    """Train a run in the background."""
    cluster = cluster_if(task.given.on_cluster)
    return train_run(task.sessions, task.folder, task.given.run_id, task.reporter, cluster)


def do_training_apart(task: Task[ForRun]) -> Trained:
    """Let one machine of the cluster train a run, in the background."""
    cluster = cluster_if(True)
    return train_run(task.sessions, task.folder, task.given.run_id, task.reporter, cluster, apart=True)


def _train(
    sessions: Sessions,
    training: Training,
    frozen: Frozen,
    run: Run,
    settings: Settings,
    place: Path,
    reporter: Reporter,
    together: Callable[[Callable[[str], None], Callable[[Runs], bool]], bool] | None,
) -> Trained:
    resumed = training.resume()
    # What was found of the weights there were is not true of those that come.
    facts = {name: fact for name, fact in run.facts.items() if name != EIGHT_BITS}
    if not resumed:
        facts |= _begin(training, facts.get("start", ""), place)
        add_to_log(
            place, f"Begins: {len(frozen.pictures)} pictures in snapshot {run.snapshot.content_hash[:12]}"
        )
        if "transfer" in facts:
            add_to_log(place, f"Starts from {facts['start']}. {facts['transfer']}")
    else:
        add_to_log(place, f"Resumes after epoch {training.progress.epoch}")
    watched = _watched(frozen, run, settings)
    keep_watched_pictures(place, frozen, watched)
    total = training.total_steps
    with sessions.begin() as session:
        # Epochs after the kept checkpoint are trained again, and recorded again.
        session.execute(
            delete(RunEpoch).where(RunEpoch.run_id == run.id, RunEpoch.epoch > training.progress.epoch)
        )
        record = get_run(session, run.id)
        record.facts = facts | {"environment": environment(training)}
        record.watched = watched
        job = record.job
        job.done = job.started_done = training.progress.epoch * training.training_pictures.steps
        job.total = total
    if resumed:
        reporter.progress(job.done, total, f"Resumed after epoch {training.progress.epoch}")
    numbers = {picture.id: index for index, picture in enumerate(_held_out(frozen))}

    def on_epoch(report: EpochReport) -> None:
        keep_watched(place, report.epoch, [numbers[each] for each in watched], training.last_found)
        with sessions.begin() as session:
            record_epoch(session, run.id, report)
        add_to_log(place, _in_words(report))

    def told(words: str) -> None:
        add_to_log(place, words)

    def run_on(runs: Runs) -> bool:
        losses = StepLosses(place, training.progress.epoch * training.training_pictures.steps)

        def on_step(step: int, loss: float) -> None:
            losses.add(step, loss)
            reporter.progress(step, total, f"Step {step} of {total}, loss {loss:.2f}")

        try:
            return runs(on_epoch, on_step, reporter.should_stop, told)
        finally:
            losses.write()

    try:
        done = run_on(training.run) if together is None else together(told, run_on)
    except InputError as error:
        add_to_log(place, f"Failed: {error}")
        raise
    if not done:
        add_to_log(place, f"Stopped after epoch {training.progress.epoch}")
        raise Stopped
    early = training.progress.epoch < settings.all_epochs
    add_to_log(
        place,
        f"Ends after epoch {training.progress.epoch}"
        + (f": none was better for {settings.patience} epochs" if early else ""),
    )
    return Trained(
        best_epoch=training.progress.best_epoch, best_map=training.progress.best_map, ended_early=early
    )


def prepare(
    frozen: Frozen, folder: DataFolder, project_id: int, settings: Settings, place: Path, snapshot_hash: str
) -> Training:
    """A training of a snapshot, with its pictures checked to be there and unchanged."""
    for picture in frozen.pictures:
        if picture.part in (Part.TRAINING, Part.VALIDATION):
            frozen_file(folder, project_id, picture)
    parts = [labelled_pictures(folder, project_id, frozen, part) for part in (Part.TRAINING, Part.VALIDATION)]
    return Training(settings, frozen.classes, parts[0], parts[1], place, snapshot_hash)


def environment(training: Training) -> dict[str, Any]:
    """What a run's outcome depends on besides its settings."""
    return {
        "python": platform.python_version(),
        "torch": torch.__version__,
        "numpy": np.__version__,
        "system": platform.platform(),
        "processor": _processor(),
        "cores": psutil.cpu_count(logical=False) or os.cpu_count(),
        "threads": torch.get_num_threads(),
        "memory": psutil.virtual_memory().total,
        "device": os.environ.get("AVOCET_DEVICE", "") or ("cuda" if torch.cuda.is_available() else "cpu"),
        "number_format": training.progress.number_format,
        "trained_share": training.trained_share,
    }


def record_epoch(session: Session, run_id: int, report: EpochReport) -> None:
    """Keep what an epoch came to."""
    session.merge(RunEpoch(run_id=run_id, epoch=report.epoch, figures=_figures(report)))
    if report.best:
        run = get_run(session, run_id)
        run.best_epoch, run.best_map, run.best_map50 = (
            report.epoch,
            report.validation.map,
            report.validation.map50,
        )
        run.minimum_score = report.validation.minimum_score


def _begin(training: Training, start: str, place: Path) -> dict[str, Any]:
    """Take over starting weights, and say what was taken over."""
    if not start:
        return {}
    if start == "shipped":
        weights = shipped_weights(training.settings.size)
    else:
        weights = weights_of_bundle(place / START_BUNDLE, start)
    transfer = training.start_from(weights)
    return {
        "transfer": transfer.in_words(),
        "transfer_share": transfer.share,
        "new_classes": transfer.unknown,
    }


def _held_out(frozen: Frozen) -> list[Any]:
    return [picture for picture in frozen.pictures if picture.part == Part.VALIDATION]


def _watched(frozen: Frozen, run: Run, settings: Settings) -> list[int]:
    """Numbers of the watch pictures: those chosen, else drawn by seed."""
    held_out = _held_out(frozen)
    if run.watched:
        return [int(each) for each in run.watched]
    return [held_out[index].id for index in draw_watched(len(held_out), settings.seed)]


def _in_words(report: EpochReport) -> str:
    validation = report.validation
    return (
        f"Epoch {report.epoch}: loss {report.loss:.3f}, validation loss {validation.loss:.3f}, "
        f"mAP {validation.map50:.3f} at 0.5, {validation.map:.3f} at 0.50:0.95, "
        f"learning rate {report.learning_rate:.2g}, {report.seconds:.1f} s"
        + (", best so far" if report.best else "")
    )


def _figures(report: EpochReport) -> dict[str, Any]:
    return {
        "box": report.box,
        "objectness": report.objectness,
        "classes": report.classes,
        "learning_rate": report.learning_rate,
        "pictures_per_second": report.pictures_per_second,
        "seconds": report.seconds,
        "best": report.best,
        "validation": asdict(report.validation),
    }


def _processor() -> str:
    """The processor's name, where the system tells it."""
    try:
        for line in Path("/proc/cpuinfo").read_text().splitlines():
            if line.startswith("model name"):
                return line.split(":", 1)[1].strip()
    except OSError:
        pass
    return platform.processor() or platform.machine()
