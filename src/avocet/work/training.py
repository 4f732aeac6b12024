"""Training a run, as the worker and the command line do it."""

from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import delete
from sqlalchemy.orm import Session, sessionmaker

from avocet.core.errors import InputError
from avocet.detector.labelled import LabelledPicture
from avocet.detector.reports import EpochReport
from avocet.detector.settings import Settings
from avocet.detector.trainer import Training
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, RunEpoch
from avocet.work.progress import Reporter, Stopped
from avocet.work.runs import get_run
from avocet.work.snapshots import Frozen, labelled_pictures, read_snapshot


def train_run(
    sessions: sessionmaker[Session], folder: DataFolder, run_id: int, reporter: Reporter
) -> dict[str, Any]:
    """Train a run to its end, from its last checkpoint if it has one.

    Raises
    ------
    Stopped
        If a person stopped it; everything up to the last finished epoch is kept.
    InputError
        If a picture is gone or the loss is no longer finite.
    """
    with sessions() as session:
        run = get_run(session, run_id)
        frozen, snapshot_hash = read_snapshot(folder, run.snapshot), run.snapshot.content_hash
    place = folder.run(run.project_id, run.id)
    training = prepare(frozen, folder, run.project_id, Settings(**run.settings), place, snapshot_hash)
    resumed = training.resume()
    total = training.total_steps
    with sessions.begin() as session:
        # Epochs after the kept checkpoint are trained again, and recorded again.
        session.execute(
            delete(RunEpoch).where(RunEpoch.run_id == run_id, RunEpoch.epoch > training.progress.epoch)
        )
        job = get_run(session, run_id).job
        job.done = job.started_done = training.progress.epoch * total // run.settings["epochs"]
    if resumed:
        reporter.progress(job.done, total, f"Resumed after epoch {training.progress.epoch}")

    def on_epoch(report: EpochReport) -> None:
        with sessions.begin() as session:
            record_epoch(session, run_id, report)

    def on_step(step: int, loss: float) -> None:
        reporter.progress(step, total, f"Step {step} of {total}, loss {loss:.2f}")

    if not training.run(on_epoch, on_step, reporter.should_stop):
        raise Stopped
    return {"best_epoch": training.progress.best_epoch, "best_map": training.progress.best_map}


def prepare(
    frozen: Frozen, folder: DataFolder, project_id: int, settings: Settings, place: Path, snapshot_hash: str
) -> Training:
    """A training of a snapshot, with its pictures checked to be there."""
    missing = [
        picture.name
        for picture in frozen.pictures
        if not folder.picture(project_id, picture.content_hash, picture.suffix).is_file()
    ]
    if missing:
        raise InputError(
            f"the files of {len(missing)} pictures are missing from the data folder, first {missing[0]}"
        )
    parts: list[list[LabelledPicture]] = [
        labelled_pictures(folder, project_id, frozen, part) for part in (Part.TRAINING, Part.VALIDATION)
    ]
    return Training(settings, frozen.classes, parts[0], parts[1], place, snapshot_hash)


def record_epoch(session: Session, run_id: int, report: EpochReport) -> None:
    """Keep what an epoch came to."""
    session.merge(RunEpoch(run_id=run_id, epoch=report.epoch, figures=_figures(report)))
    if report.best and report.validation is not None:
        run = get_run(session, run_id)
        run.best_epoch, run.best_map, run.best_map50 = (
            report.epoch,
            report.validation.map,
            report.validation.map50,
        )


def _figures(report: EpochReport) -> dict[str, Any]:
    figures: dict[str, Any] = {
        "box": report.box,
        "objectness": report.objectness,
        "classes": report.classes,
        "learning_rate": report.learning_rate,
        "pictures_per_second": report.pictures_per_second,
        "best": report.best,
    }
    if report.validation is not None:
        figures["validation"] = asdict(report.validation)
    return {key: float(value) if isinstance(value, np.floating) else value for key, value in figures.items()}
