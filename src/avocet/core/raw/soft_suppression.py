"""Soft suppression: overlapping boxes lose score instead of being dropped."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, finite_boxes, iou

SIGMA = 0.5
"""Width of the Gaussian, as in the paper."""


@dataclass(frozen=True)
class Softened:
    """Scores after soft suppression.

    Attributes
    ----------
    scores : (N,) ndarray of float64
        What is left of each score.
    order : (N,) ndarray of int64
        Boxes in the order in which they were taken, by falling score at that moment.
    lowered_by : (N,) ndarray of int64
        The box that took most of a box's score, or -1 where it kept all.
    overlap : (N,) ndarray of float64
        IoU with that box.
    """

    scores: Array
    order: NDArray[np.int64]
    lowered_by: NDArray[np.int64]
    overlap: Array


def soften(
    boxes: ArrayLike,
    scores: ArrayLike,
    method: Literal["linear", "gaussian"],
    overlap_limit: float = 0.5,
    sigma: float = SIGMA,
    classes: ArrayLike | None = None,
) -> Softened:
    """Soft non-maximum suppression (Bodla et al., 2017).

    The box of the highest score is taken and lowers the scores of those left: linearly by
    1 − IoU where IoU is at or above ``overlap_limit``, or everywhere by exp(−IoU² / sigma); then the
    highest of those left, and so on.

    Parameters
    ----------
    boxes : (N, 4) array_like
    scores : (N,) array_like
    method : {'linear', 'gaussian'}
    overlap_limit : float
        Of the linear form.
    sigma : float
        Of the Gaussian form.
    classes : (N,) array_like of int, optional
        Only boxes of one class lower each other.

    Returns
    -------
    Softened

    Raises
    ------
    ValueError
        If lengths differ, a score is NaN, a corner is not finite, the method is unknown or a parameter out of range.

    Examples
    --------
    >>> boxes = [[0, 0, 10, 10], [0, 0, 10, 9], [20, 0, 30, 10]]
    >>> soften(boxes, [0.9, 0.8, 0.7], "linear").scores.round(3)
    array([0.9 , 0.08, 0.7 ])
    >>> soften(boxes, [0.9, 0.8, 0.7], "gaussian").scores.round(3)
    array([0.9  , 0.158, 0.7  ])
    """
    array, values = finite_boxes(boxes), np.array(scores, dtype=np.float64).reshape(-1)
    labels = np.zeros(len(array), np.int64) if classes is None else np.asarray(classes).reshape(-1)
    if not len(array) == len(values) == len(labels):
        raise ValueError(f"{len(array)} boxes, {len(values)} scores and {len(labels)} classes do not match")
    if np.isnan(values).any():
        raise ValueError(f"score {int(np.isnan(values).argmax())} is not a number")
    if method not in ("linear", "gaussian"):
        raise ValueError(f"unknown soft suppression {method!r}")
    if not 0 <= overlap_limit <= 1 or not sigma > 0:
        raise ValueError(f"overlap limit {overlap_limit} or sigma {sigma} is out of range")
    order = np.zeros(len(array), dtype=np.int64)
    lowered_by = np.full(len(array), -1, dtype=np.int64)
    overlap, most_taken = np.zeros(len(array)), np.zeros(len(array))
    left = np.ones(len(array), dtype=bool)
    for place in range(len(array)):
        best = int(np.where(left, values, -np.inf).argmax())
        order[place] = best
        left[best] = False
        others = np.flatnonzero(left & (labels == labels[best]))
        if not len(others):
            continue
        shared = iou(array[[best]], array[others])[0]
        if method == "linear":
            factor = np.where(shared >= overlap_limit, 1 - shared, 1.0)
        else:
            factor = np.exp(-(shared**2) / sigma)
        taken = values[others] * (1 - factor)
        values[others] -= taken
        heavier = taken > most_taken[others]
        most_taken[others[heavier]] = taken[heavier]
        lowered_by[others[heavier]], overlap[others[heavier]] = best, shared[heavier]
    return Softened(values, order, lowered_by, overlap)
