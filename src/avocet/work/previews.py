"""Looks ahead at a run, and into one that is at work: augmented pictures, costs, an estimate, a try."""

import multiprocessing
from dataclasses import asdict
from multiprocessing.connection import Connection
from typing import Any

import numpy as np
import psutil
from sqlalchemy.orm import Session, sessionmaker

from avocet.core.errors import InputError
from avocet.detector.augmentation import LEAST_SIDE, LEAST_VISIBLE
from avocet.detector.batches import TrainingPictures
from avocet.detector.colours import lit
from avocet.detector.predictor import OVERLAP_LIMIT, Predictor
from avocet.detector.probe import Probe, probe
from avocet.detector.settings import settings_from
from avocet.detector.sizes import SIZES
from avocet.detector.summary import summarise
from avocet.files import write_bytes
from avocet.media.pictures import encode_jpeg, read_picture
from avocet.store.database import open_database, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Part
from avocet.work.media import get_picture, picture_path
from avocet.work.problems import NotFound
from avocet.work.progress import Reporter, Stopped
from avocet.work.runs import get_run, labels_to_learn, model_path
from avocet.work.snapshots import labelled_pictures

Sessions = sessionmaker[Session]

SHEET = 12
"""Augmented pictures on a sheet."""

LEAST_TRIED = 0.05
"""Boxes below this score are not sent to the page, which chooses among the rest."""

PLENTY = 0.9
"""An estimate warns where a training would take more than this share of the free memory."""


def draw_augmented(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    """A sheet of training pictures as the loader makes them, with their boxes."""
    settings = settings_from(given["settings"] | {"batch": SHEET})
    with reading(sessions)() as session:
        frozen, _ = labels_to_learn(session, folder, given["project_id"], given.get("snapshot_id"))
    pictures = labelled_pictures(folder, given["project_id"], frozen, Part.TRAINING)
    if not pictures:
        raise InputError("there is no labelled picture in the training part")
    loader = TrainingPictures(pictures, settings.side, SHEET, settings.augmentation, int(given["draw"]))
    try:
        batch = loader.first_batch()
    finally:
        loader.close()
    place = folder.sheet(given["job_id"])
    place.mkdir(parents=True, exist_ok=True)
    shown = []
    for number, pixels in enumerate(batch.pixels):
        shade = batch.light[number] if batch.light is not None else np.ones(3, np.float32)
        write_bytes(place / f"{number}.jpg", encode_jpeg(lit(pixels, shade)))
        here = batch.truths.pictures == number
        shown.append(
            {
                "name": pictures[batch.pictures[number]].name,
                "boxes": batch.truths.boxes[here].round(1).tolist(),
                "classes": batch.truths.classes[here].tolist(),
            }
        )
        reporter.progress(number + 1, SHEET)
    return {
        "width": int(batch.pixels.shape[2]),
        "height": int(batch.pixels.shape[1]),
        "pictures": shown,
        "class_names": frozen.classes,
        "least_visible": LEAST_VISIBLE,
        "least_side": LEAST_SIDE,
    }


def sum_up_sizes(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    """What each size costs at a side: parameters, multiply-adds, milliseconds, memory, layers."""
    sizes = {}
    for number, name in enumerate(SIZES, start=1):
        if reporter.should_stop():
            raise Stopped
        sizes[name] = asdict(summarise(name, given["side"], max(1, given["classes"])))
        reporter.progress(number, len(SIZES), name.capitalize())
    return {"side": given["side"], "sizes": sizes}


def probe_run(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    """Some real steps in a process of their own: seconds an epoch, in all, and memory at most."""
    settings = settings_from(given["settings"])
    free = psutil.virtual_memory().available
    context = multiprocessing.get_context("spawn")
    ours, theirs = context.Pipe(duplex=False)
    process = context.Process(target=_probe_apart, args=(folder, given, theirs), daemon=True)
    process.start()
    theirs.close()
    try:
        while not ours.poll(0.5):
            reporter.progress(0, 1, "Training a few steps")
            if reporter.should_stop():
                raise Stopped
        found = ours.recv()
    except EOFError:
        raise InputError(
            "the probe was ended by the system, most likely for want of memory; "
            "choose a smaller side, size or batch"
        ) from None
    finally:
        process.terminate()
        process.join()
    if isinstance(found, str):
        raise InputError(found)
    assert isinstance(found, Probe)
    return asdict(found) | {
        "seconds_per_epoch": found.seconds_per_epoch,
        "seconds": found.seconds_per_epoch * settings.all_epochs,
        "epochs": settings.all_epochs,
        "free_memory": free,
        "fits": found.peak_memory < PLENTY * free,
    }


def _probe_apart(folder: DataFolder, given: dict[str, Any], answer: Connection) -> None:
    """Runs in the probe's own process."""
    try:
        with reading(open_database(folder.database))() as session:
            frozen, _ = labels_to_learn(session, folder, given["project_id"], given.get("snapshot_id"))
        parts = [
            labelled_pictures(folder, given["project_id"], frozen, part)
            for part in (Part.TRAINING, Part.VALIDATION)
        ]
        answer.send(probe(settings_from(given["settings"]), frozen.classes, parts[0], parts[1]))
    except (InputError, NotFound) as error:
        answer.send(str(error))
    except (MemoryError, RuntimeError) as error:
        answer.send(f"the probe failed: {str(error).splitlines()[0] if str(error) else 'memory is short'}")


def try_model(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    """What a run's latest checkpoint finds on one picture, also while the run is at work."""
    with reading(sessions)() as session:
        run, picture = get_run(session, given["run_id"]), get_picture(session, given["picture_id"])
        path = model_path(folder, run, "latest")
    predictor = Predictor.from_bundle(path)
    pixels = read_picture(picture_path(folder, picture), picture.name)
    found = predictor.candidates([pixels], LEAST_TRIED)[0].after_suppression(LEAST_TRIED, OVERLAP_LIMIT)
    return {
        "epoch": predictor.card.metrics.get("epoch"),
        "picture_id": picture.id,
        "boxes": found.boxes.round(2).tolist(),
        "scores": found.scores.round(4).tolist(),
        "classes": found.classes.tolist(),
        "class_names": predictor.card.classes,
    }
