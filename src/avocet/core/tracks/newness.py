"""Which frames show something new, so that near-equal ones need not be labelled."""

import numpy as np
from numpy.typing import NDArray

GRID = (36, 64)
"""Rows and columns that a frame is looked at in."""

CHANGED = 12.0
"""Grey levels by which a cell must differ; the mean of a cell's many pixels hardly moves with their noise."""


class Newness:
    """Tells which frames differ enough from the last one that did.

    Parameters
    ----------
    share : float
        Part of the picture that must have changed, from 0 to 1.

    Examples
    --------
    >>> newness = Newness(0.25)
    >>> still, moved = np.zeros((72, 128, 3), np.uint8), np.zeros((72, 128, 3), np.uint8)
    >>> moved[:40] = 200
    >>> [newness.is_new(each) for each in (still, still, moved, moved)]
    [True, False, True, False]
    """

    def __init__(self, share: float) -> None:
        if not 0 <= share <= 1:
            raise ValueError(f"the share that must have changed is between 0 and 1, not {share}")
        self._share = share
        self._last: NDArray[np.float64] | None = None

    def is_new(self, pixels: NDArray[np.uint8]) -> bool:
        """Whether a frame, (H, W, 3), differs enough; if so, the next ones are compared with it."""
        small = _cells(pixels)
        if self._last is not None and changed_share(self._last, small) < max(self._share, 1e-9):
            return False
        self._last = small
        return True


def changed_share(before: NDArray[np.float64], after: NDArray[np.float64]) -> float:
    """The part of two frames' cells that differ by more than noise does."""
    return float((np.abs(before - after) > CHANGED).mean())


def _cells(pixels: NDArray[np.uint8]) -> NDArray[np.float64]:
    """The mean grey of each cell."""
    rows = np.linspace(0, pixels.shape[0], GRID[0], endpoint=False).astype(int)
    columns = np.linspace(0, pixels.shape[1], GRID[1], endpoint=False).astype(int)
    grey = pixels.mean(axis=2)
    sums = np.add.reduceat(np.add.reduceat(grey, np.unique(rows), axis=0), np.unique(columns), axis=1)
    ones = np.add.reduceat(
        np.add.reduceat(np.ones(grey.shape), np.unique(rows), axis=0), np.unique(columns), axis=1
    )
    return np.asarray(sums / ones)
