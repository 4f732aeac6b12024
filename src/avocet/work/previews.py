"""Looks ahead at a run, and into one that is at work: augmented pictures, costs, an estimate, a try."""

import multiprocessing
from dataclasses import asdict
from multiprocessing.connection import Connection
from typing import Any

import numpy as np
import psutil
from numpy.typing import NDArray
from sqlalchemy.orm import Session, sessionmaker

from avocet.core.candidates import OVERLAP_LIMIT
from avocet.core.errors import InputError
from avocet.detector.augmentation import LEAST_SIDE, LEAST_VISIBLE
from avocet.detector.batches import TrainingPictures
from avocet.detector.colours import lit
from avocet.detector.predictor import Predictor
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
from avocet.work.projects import get_project
from avocet.work.runs import get_run, labels_to_learn, model_path
from avocet.work.snapshots import labelled_pictures
from avocet.work.taking_apart import Facts, TakenApart

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


def take_apart(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    """Keep a model's raw outputs for one picture, to be explained as often as a slider moves."""
    with reading(sessions)() as session:
        run, picture = get_run(session, given["run_id"]), get_picture(session, given["picture_id"])
        path = model_path(folder, run, given["checkpoint"])
        names = {each.id: each.name for each in get_project(session, run.project_id).classes}
        labels = [(names[box.class_id], box.x1, box.y1, box.x2, box.y2) for box in picture.boxes]
    predictor = Predictor.from_bundle(path)
    pixels = read_picture(picture_path(folder, picture), picture.name)
    apart = take_apart_pixels(predictor, pixels, run.name, picture.name)
    known = [
        (apart.facts.classes.index(name), *corners)
        for name, *corners in labels
        if name in apart.facts.classes
    ]
    apart.facts.truths = known  # type: ignore[assignment]  # a class and four corners each
    apart.facts.picture_id = picture.id
    apart.save(folder, given["job_id"])
    return {"candidates": len(apart.decoded.boxes)}


def take_apart_pixels(
    predictor: Predictor, pixels: NDArray[np.uint8], model: str, picture: str
) -> TakenApart:
    """Raw outputs of a model for one picture."""
    card = predictor.card
    facts = Facts(
        model=model,
        picture=picture,
        picture_id=None,
        width=pixels.shape[1],
        height=pixels.shape[0],
        side=card.side,
        classes=card.classes,
        anchors=card.anchors,
        strides=card.strides,
        reach=card.reach,
    )
    return TakenApart(facts, predictor.raw_of(pixels))


def find_boxes(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    """What each of several models finds on one picture, before anything is combined."""
    with reading(sessions)() as session:
        picture = get_picture(session, given["picture_id"])
        runs = [get_run(session, run_id) for run_id in given["run_ids"]]
        paths = [model_path(folder, run) for run in runs]
    pixels = read_picture(picture_path(folder, picture), picture.name)
    models = []
    for number, (run, path) in enumerate(zip(runs, paths, strict=True), start=1):
        if reporter.should_stop():
            raise Stopped
        predictor = Predictor.from_bundle(path)
        found = predictor.candidates([pixels], LEAST_TRIED)[0].after_suppression(LEAST_TRIED, OVERLAP_LIMIT)
        models.append(
            {
                "run_id": run.id,
                "name": run.name,
                "boxes": found.boxes.round(2).tolist(),
                "scores": found.scores.round(4).tolist(),
                "classes": [predictor.classes[label] for label in found.classes],
            }
        )
        reporter.progress(number, len(paths), run.name)
    return {"picture_id": picture.id, "width": picture.width, "height": picture.height, "models": models}
