"""Looks ahead at a run: augmented pictures, what each size costs, an estimate of time and memory."""

import multiprocessing
from dataclasses import asdict
from multiprocessing.connection import Connection

import numpy as np
import psutil

from avocet.core.errors import InputError
from avocet.detector.model.sizes import SIZES
from avocet.detector.model.summary import summarise
from avocet.detector.pictures.augmentation import LEAST_SIDE, LEAST_VISIBLE
from avocet.detector.pictures.batches import TrainingPictures
from avocet.detector.pictures.colours import lit
from avocet.detector.pictures.resizing import mean_colour
from avocet.detector.training.probe import Probe, probe
from avocet.detector.training.settings import Settings
from avocet.files import write_bytes
from avocet.media.pictures import encode_jpeg
from avocet.store.database import open_database, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Part
from avocet.work.job_givens import LookAhead
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import AugmentedPicture, AugmentedSheet, RunProbed, SizeCost, SizesSummed
from avocet.work.problems import NotFound
from avocet.work.progress import Stopped
from avocet.work.snapshots.frozen import labelled_pictures
from avocet.work.train.ahead.look import look_at_labels, look_at_pictures_too
from avocet.work.train.runs import labels_to_learn

SHEET = 12
"""Augmented pictures on a sheet."""


PLENTY = 0.9
"""An estimate warns where a training would take more than this share of the free memory."""


def draw_augmented(task: Task[LookAhead]) -> AugmentedSheet:
    """A sheet of training pictures as the loader makes them, with their boxes."""
    task.reporter.progress(0, SHEET, "Reading the labels")
    frozen, settings = look_at_pictures_too(task)
    pictures = labelled_pictures(task.folder, task.given.project_id, frozen, Part.TRAINING)
    if not pictures:
        raise InputError("there is no labelled picture in the training part")
    padding = mean_colour([picture.read for picture in pictures])
    loader = TrainingPictures(
        pictures, settings.side, SHEET, settings.augmentation, task.given.draw, padding=padding
    )
    task.reporter.progress(0, SHEET, "Drawing the pictures")
    try:
        batch = loader.first_batch(lambda done: task.reporter.progress(done, SHEET, "Drawing the pictures"))
    finally:
        loader.close()
    place = task.folder.sheet(task.job_id)
    place.mkdir(parents=True, exist_ok=True)
    shown = []
    for number, pixels in enumerate(batch.pixels):
        shade = batch.light[number] if batch.light is not None else np.ones(3, np.float32)
        write_bytes(place / f"{number}.jpg", encode_jpeg(lit(pixels, shade)))
        here = batch.truths.pictures == number
        shown.append(
            AugmentedPicture(
                name=pictures[batch.pictures[number]].name,
                boxes=batch.truths.boxes[here].round(1).tolist(),
                classes=batch.truths.classes[here].tolist(),
                ignored=batch.truths.ignored[here].tolist(),
            )
        )
    return AugmentedSheet(
        width=int(batch.pixels.shape[2]),
        height=int(batch.pixels.shape[1]),
        pictures=shown,
        class_names=frozen.classes,
        least_visible=LEAST_VISIBLE,
        least_side=LEAST_SIDE,
    )


def sum_up_sizes(task: Task[LookAhead]) -> SizesSummed:
    """What each size costs at a side: parameters, multiply-adds, milliseconds, memory, layers."""
    labels, settings = look_at_labels(task)

    def on_round(done: int, rounds: int) -> None:
        if task.reporter.should_stop():
            raise Stopped
        task.reporter.progress(done, rounds, "Timing the sizes in turns")

    summed = summarise(list(SIZES), settings.side, max(1, len(labels.names)), on_round)
    costs = {name: SizeCost.model_validate(summary) for name, summary in summed.items()}
    return SizesSummed(side=settings.side, sizes=costs)


def probe_run(task: Task[LookAhead]) -> RunProbed:
    """Some real steps in a process of their own: seconds an epoch, in all, and memory at most."""
    _, settings = look_at_labels(task)
    reporter = task.reporter
    free = psutil.virtual_memory().available
    context = multiprocessing.get_context("spawn")
    ours, theirs = context.Pipe(duplex=False)
    process = context.Process(
        target=_probe_apart, args=(task.folder, task.given, settings, theirs), daemon=True
    )
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
    return RunProbed(
        **asdict(found),
        seconds_per_epoch=found.seconds_per_epoch,
        seconds=found.seconds_per_epoch * settings.all_epochs,
        epochs=settings.all_epochs,
        free_memory=free,
        fits=found.peak_memory < PLENTY * free,
    )


def _probe_apart(folder: DataFolder, given: LookAhead, settings: Settings, answer: Connection) -> None:
    """Runs in the probe's own process."""
    try:
        with reading(open_database(folder.database))() as session:
            frozen, _ = labels_to_learn(session, folder, given.project_id, given.snapshot_id)
        parts = [
            labelled_pictures(folder, given.project_id, frozen, part)
            for part in (Part.TRAINING, Part.VALIDATION)
        ]
        answer.send(probe(settings, frozen.classes, parts[0], parts[1]))
    except (InputError, NotFound) as error:
        answer.send(str(error))
    except (MemoryError, RuntimeError) as error:
        answer.send(f"the probe failed: {str(error).splitlines()[0] if str(error) else 'memory is short'}")
