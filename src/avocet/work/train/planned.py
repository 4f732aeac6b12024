"""One training of a study, on whichever machine."""

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings, settings_from
from avocet.detector.training.trainer import Training
from avocet.store.tables import Study
from avocet.work.progress import Stopped

PIECES = 8
"""Checkpoints of each training, from which it resumes."""

Planned = dict[str, int]
"""One training of a study: so many ``pictures``, and the ``seed`` by which they are drawn."""

Measured = dict[str, float]
"""``map`` and ``map50`` at the end of one."""


def train_planned(
    chosen: Settings,
    steps: int,
    wanted: Planned,
    classes: Sequence[str],
    pictures: Sequence[LabelledPicture],
    held_out: Sequence[LabelledPicture],
    place: Path,
    on_step: Callable[[int, float], None],
    should_stop: Callable[[], bool],
) -> Measured:
    """One training of a study; raises `Stopped`, or `InputError` where it fails."""
    # The same order for every size of subset, so that each holds the smaller ones.
    order = np.random.default_rng([wanted["seed"], 4]).permutation(len(pictures))
    some = [pictures[int(index)] for index in order[: wanted["pictures"]]]
    passes = math.ceil(steps * chosen.batch / (PIECES * len(some)))
    settings = replace(chosen, seed=wanted["seed"], epochs=PIECES, passes=passes, patience=0)
    run = Training(settings, classes, some, held_out, place)
    run.resume()
    reports: list[Any] = []
    try:
        if not run.run(reports.append, on_step, should_stop):
            raise Stopped
        # The end counts, not the best epoch: picking the best would flatter short trainings.
        validation = reports[-1].validation if reports else run.validate()
    finally:
        run.close()
    return {"map": validation.map, "map50": validation.map50}


def settings_of(study: Study) -> tuple[Settings, int]:
    """The settings of a study's trainings, and the steps that each takes."""
    record = dict(study.settings)
    steps = int(record.pop("steps"))
    return settings_from(record), steps
