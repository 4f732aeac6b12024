"""The loss of every step of a run, kept as it comes in: the curve before the first epoch is over."""

import time
from pathlib import Path

import numpy as np

from avocet.files import write_text

NAME = "steps.csv"
WRITTEN_EVERY = 0.5
"""Seconds between two writes."""

MOST_POINTS = 400
"""Points of a curve; where there are more steps, each point is the mean of some."""


class StepLosses:
    """Written while a run trains.

    Parameters
    ----------
    place : Path
        The run's folder.
    done : int
        Steps that are kept; what was written of later ones is trained again.
    """

    def __init__(self, place: Path, done: int) -> None:
        self._path, self._waiting, self._written_at = place / NAME, [""], 0.0
        place.mkdir(parents=True, exist_ok=True)
        kept = [line for line in _lines(self._path) if int(line.split(",")[0]) <= done]
        write_text(self._path, "".join(f"{line}\n" for line in kept))

    def add(self, step: int, loss: float) -> None:
        """Keep the loss of a step, counted from 1."""
        self._waiting.append(f"{step},{loss:.5g}\n")
        if time.monotonic() - self._written_at >= WRITTEN_EVERY:
            self.write()

    def write(self) -> None:
        """Write what has come in."""
        with self._path.open("a", encoding="ascii") as file:
            file.write("".join(self._waiting))
        self._waiting, self._written_at = [], time.monotonic()


def step_curve(place: Path, most: int = MOST_POINTS) -> list[tuple[float, float]]:
    """Step and loss, thinned to a curve that can be drawn.

    Parameters
    ----------
    place : Path
        The run's folder.
    most : int
        Points.

    Returns
    -------
    list of (float, float)
        Empty where no step was taken.
    """
    rows = np.array([[float(value) for value in line.split(",")] for line in _lines(place / NAME)])
    if not len(rows):
        return []
    each = -(-len(rows) // most)
    parts = [rows[start : start + each].mean(axis=0) for start in range(0, len(rows), each)]
    return [(round(float(step), 1), float(loss)) for step, loss in parts]


def _lines(path: Path) -> list[str]:
    """Whole lines: the last may be half written."""
    if not path.is_file():
        return []
    text = path.read_text(encoding="ascii")
    return text[: text.rfind("\n") + 1].splitlines()
