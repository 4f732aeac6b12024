"""A few real steps, to say beforehand how long a training takes and how much memory it needs."""

import resource
import sys
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import Training

STEPS = 4
"""Steps that are timed, after one that warms up."""

VALIDATED = 8
"""Validation pictures that are timed."""


@dataclass(frozen=True)
class Probe:
    """What a probe measured.

    Attributes
    ----------
    seconds_per_step : float
    seconds_per_validation : float
        Of all validation pictures.
    steps_per_epoch : int
    peak_memory : int
        Bytes that the process held at most.
    """

    seconds_per_step: float
    seconds_per_validation: float
    steps_per_epoch: int
    peak_memory: int

    @property
    def seconds_per_epoch(self) -> float:
        return self.steps_per_epoch * self.seconds_per_step + self.seconds_per_validation


def probe(
    settings: Settings,
    class_names: Sequence[str],
    training: Sequence[LabelledPicture],
    validation: Sequence[LabelledPicture],
) -> Probe:
    """Train some steps and validate some pictures, and throw the outcome away.

    To measure memory it has to run in a process of its own.

    Parameters
    ----------
    settings : Settings
    class_names : sequence of str
    training, validation : sequence of LabelledPicture

    Returns
    -------
    Probe

    Raises
    ------
    InputError
        As `avocet.detector.training.trainer.Training`.
    """
    held = list(validation[:VALIDATED])
    with tempfile.TemporaryDirectory(prefix="avocet-probe-") as place:
        run = Training(settings, class_names, training, held, Path(place))
        moments: list[float] = [time.perf_counter()]
        run.run(
            lambda report: None,
            lambda step, loss: moments.append(time.perf_counter()),
            lambda: len(moments) > STEPS + 1,
        )
        # The first step decodes pictures and warms up; a run of fewer steps is over already.
        steps = [later - earlier for earlier, later in pairwise(moments[1:])]
        first = moments[1] - moments[0]
        started = time.perf_counter()
        run.validate()
        validated = time.perf_counter() - started
        per_epoch = run.training_pictures.steps
        run.close()
    unit = 1 if sys.platform == "darwin" else 1024
    return Probe(
        sum(steps) / len(steps) if steps else first,
        validated * len(validation) / max(1, len(held)),
        per_epoch,
        resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * unit,
    )
