"""Reading precision at recalls: one rule for what is measured and for what is drawn anew."""

import numpy as np

from avocet.core.boxes import Array

ROUNDING = 1e-9
"""What a sum of weights may fall short of a recall that it equals."""


def points_reached(found: Array, truths: Array, points: int) -> Array:
    """How many of evenly spaced recalls from 0 to 1 are reached.

    A recall that equals a point reaches it: 7 of 20 are 0.35, the 36th of 101 points. Compared as
    floating-point numbers, as programs mostly do, 0.35 falls short of 35 × 0.01 in its last digit and
    only 35 are read; the published rule (Lin et al., 2014) speaks of recalls, not of their digits.

    Parameters
    ----------
    found, truths : ndarray of float64
        Truths found, and all; they broadcast. Whole numbers, or weights.
    points : int
        At least 2.

    Returns
    -------
    ndarray of float64
        Whole numbers, 0 where nothing is found.

    Examples
    --------
    >>> points_reached(np.array([0.0, 7.0, 20.0]), np.array(20.0), 101)
    array([  0.,  36., 101.])
    >>> points_reached(np.array([4.0]), np.array([11.0]), 11)
    array([4.])
    """
    recall = np.divide(found, truths, out=np.zeros(np.broadcast(found, truths).shape), where=truths > 0)
    return np.where(recall > 0, np.floor((points - 1) * recall + ROUNDING) + 1, 0)


def precision_over_recalls(found: Array, seen: Array, truths: Array, points: int) -> Array:
    """Average precision from what was counted at each hit, in order of falling score.

    Precision is read under its falling envelope. Between two hits it only falls, so that hits are
    all that need be looked at.

    Parameters
    ----------
    found, seen : (H, R) ndarray of float64
        Truths found and detections seen up to and with each hit.
    truths : (R,) ndarray of float64
    points : int
        Evenly spaced recalls at which it is read; 0 takes the exact area.

    Returns
    -------
    (R,) ndarray of float64
        NaN where there is no truth.

    Examples
    --------
    Two truths; a hit, a false alarm, a hit:

    >>> one, two = np.array([[1.0], [2.0]]), np.array([[1.0], [3.0]])
    >>> precision_over_recalls(one, two, np.array([2.0]), 0).round(4)
    array([0.8333])
    """
    precision = np.divide(found, seen, out=np.zeros(found.shape), where=seen > 0)
    envelope = np.maximum.accumulate(precision[::-1], axis=0)[::-1]
    if points:
        reached = points_reached(found, truths, points) / points
    else:
        reached = np.divide(found, truths, out=np.zeros(found.shape), where=truths > 0)
    fresh = np.diff(reached, axis=0, prepend=0)
    value: Array = np.where(truths > 0, (envelope * fresh).sum(axis=0), np.nan)
    return value
