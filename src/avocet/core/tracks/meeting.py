"""Which of the boxes that were followed to a frame are which of those that are labelled there."""

import numpy as np
import scipy
from numpy.typing import ArrayLike

from avocet.core.boxes import iou

ONE_THING = 0.5
"""IoU from which a box that was followed and one that is labelled are about one object."""


def met(followed: ArrayLike, kinds: ArrayLike, boxes: ArrayLike, labels: ArrayLike) -> list[tuple[int, int]]:
    """Pair boxes that were followed to a frame with those that are labelled on it.

    Only boxes of one class are paired, and only those that overlap by `ONE_THING`; of all ways to do so the one with
    the greatest overlap in all counts (the assignment problem; Kuhn, 1955).

    Parameters
    ----------
    followed, boxes : (N, 4) and (M, 4) array_like
        Corners in pixels of the clip.
    kinds, labels : (N,) and (M,) array_like
        Their classes.

    Returns
    -------
    list of (int, int)
        Places in ``followed`` and in ``boxes``.

    Examples
    --------
    >>> met([[0, 0, 9, 9], [20, 0, 29, 9]], [1, 1], [[21, 0, 30, 9], [0, 0, 9, 9]], [1, 2])
    [(1, 0)]
    """
    overlap = iou(followed, boxes)
    if not overlap.size:
        return []
    worth = np.where(np.asarray(kinds)[:, None] == np.asarray(labels)[None], overlap, 0.0)
    worth = np.where(worth >= ONE_THING, worth, 0.0)
    rows, columns = scipy.optimize.linear_sum_assignment(-worth)
    return [
        (int(row), int(column)) for row, column in zip(rows, columns, strict=True) if worth[row, column] > 0
    ]
