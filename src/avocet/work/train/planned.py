"""One training of a study, on whichever machine."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings, settings_from
from avocet.detector.training.trainer import Training
from avocet.store.folder import DataFolder
from avocet.store.tables import Study
from avocet.work.progress import Reporter, Stopped
from avocet.work.snapshots.frozen import Frozen

PIECES = 8
"""Checkpoints of each training, from which it resumes."""

Planned = dict[str, int]
"""One training of a study: so many ``pictures``, and the ``seed`` by which they are drawn."""

Measured = dict[str, float]
"""``map`` and ``map50`` at the end of one."""


@dataclass(frozen=True)
class StudyWork:
    """What is left of a study, wherever it is done.

    Attributes
    ----------
    folder : DataFolder
    study : Study
    frozen : Frozen
        Its snapshot.
    left : list of Planned
    reporter : Reporter
    on_measured : callable
        Gets a training that is done and what it measured.
    on_failed : callable
        Gets one that failed and why.
    """

    folder: DataFolder
    study: Study
    frozen: Frozen
    left: list[Planned]
    reporter: Reporter
    on_measured: Callable[[Planned, Measured], None]
    on_failed: Callable[[Planned, str], None]

    @property
    def ended(self) -> int:
        """Trainings that were done before."""
        return len(self.study.plan) - len(self.left)


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
