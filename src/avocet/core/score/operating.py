"""Choosing a minimum score: precision and recall against it, and the score that a wish asks for."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array

Wish = Literal["precision", "recall", "f1", "price"]

DIGITS = 3
"""A minimum score is chosen among those that a person reads and writes down: of so many digits."""


@dataclass(frozen=True)
class OperatingCurve:
    """What each minimum score would give, from the highest score down.

    Attributes
    ----------
    scores : (N,) ndarray of float64
        Different minimum scores of `DIGITS` digits, falling.
    hits, false_alarms : (N,) ndarray of int64
        At that minimum score.
    truths : int
    """

    scores: Array
    hits: Array
    false_alarms: Array
    truths: int

    @property
    def precision(self) -> Array:
        return np.asarray(self.hits / (self.hits + self.false_alarms))

    @property
    def recall(self) -> Array:
        return np.asarray(self.hits / max(1, self.truths))

    @property
    def f1(self) -> Array:
        """Harmonic mean of precision and recall."""
        return np.asarray(2 * self.hits / (self.hits + self.false_alarms + self.truths))


def operating_curve(scores: ArrayLike, hits: ArrayLike, truths: int) -> OperatingCurve:
    """Hits and false alarms at every minimum score that a person would write down.

    Scores are rounded down to `DIGITS` digits, and those that become one pass together: what is said
    of a minimum score is then exactly what it gives when it is written down and measured with.

    Parameters
    ----------
    scores : (D,) array_like
    hits : (D,) array_like of bool
        True where the detection found a truth.
    truths : int

    Returns
    -------
    OperatingCurve

    Examples
    --------
    >>> curve = operating_curve([0.9, 0.8009, 0.8002, 0.3], [True, False, True, True], 4)
    >>> curve.scores, curve.hits, curve.false_alarms
    (array([0.9, 0.8, 0.3]), array([1, 2, 3]), array([0, 1, 1]))
    """
    values, found = rounded_down(scores), np.asarray(hits, bool).reshape(-1)
    order = np.argsort(-values, kind="stable")
    values, found = values[order], found[order]
    # Detections of one score pass together.
    last = np.append(values[1:] != values[:-1], True) if len(values) else np.zeros(0, bool)
    right, wrong = np.cumsum(found), np.cumsum(~found)
    return OperatingCurve(values[last], right[last], wrong[last], int(truths))


def rounded_down(scores: ArrayLike) -> Array:
    """Scores at `DIGITS` digits, never above what they were: as a minimum score each lets its own pass.

    Parameters
    ----------
    scores : (N,) array_like

    Returns
    -------
    (N,) ndarray of float64

    Examples
    --------
    >>> rounded_down([0.2899999, 0.29, 0.57, 1.0])
    array([0.289, 0.29 , 0.57 , 1.   ])
    """
    values = np.asarray(scores, np.float64).reshape(-1)
    near = np.round(np.round(values * 10**DIGITS) / 10**DIGITS, DIGITS)
    lower: Array = np.where(near > values, np.round(near - 10.0**-DIGITS, DIGITS), near)
    return lower


GIVEN_UP = 0.5
"""Standard errors of F1 that fewer false alarms are worth. On made populations of 6 to 100 pictures that costs 0.000 to 0.010
of F1 beside the middle of all that are nearly as good, and spares 10 to 25 of 100 false alarms; a whole one costs up to 0.023."""


def sparing_f1_score(
    scores: ArrayLike, hits: ArrayLike, pictures: ArrayLike, truths: ArrayLike
) -> float | None:
    """The highest minimum score whose F1 is as good as the best, but for what chance may have made of it.

    Around its best F1 is flat: a higher score has fewer false alarms and misses more. How much the difference to the
    best would waver on other such pictures is told by what single pictures bring to it (the infinitesimal jackknife;
    Efron, 1982); `GIVEN_UP` of that standard error is given up. Of all scores that let the same detections pass, it is
    the one in the middle.

    Parameters
    ----------
    scores : (D,) array_like
        From 0 to 1.
    hits : (D,) array_like of bool
    pictures : (D,) array_like of int
        The place of each detection's picture in ``truths``.
    truths : (P,) array_like of int
        Of each picture.

    Returns
    -------
    float or None
        Of `DIGITS` digits; None where nothing was hit.

    Examples
    --------
    One weak hit among as many false alarms is not worth them:

    >>> scores = [0.9, 0.9, 0.9, 0.9, 0.4, 0.35]
    >>> sparing_f1_score(scores, [1, 1, 1, 1, 0, 1], [0, 1, 2, 3, 1, 2], [2, 1, 2, 1])
    0.65
    """
    owners, counts = np.asarray(pictures, np.int64).reshape(-1), np.asarray(truths, np.int64).reshape(-1)
    found, values = np.asarray(hits, bool).reshape(-1), rounded_down(scores)
    curve = operating_curve(values, found, int(counts.sum()))
    if not len(curve.scores) or not curve.hits[-1]:
        return None
    best, count = int(curve.f1.argmax()), len(counts)
    passing = values >= curve.scores[best]
    at_best = _brought(
        np.bincount(owners[passing & found], minlength=count),
        counts + np.bincount(owners[passing], minlength=count),
    )
    order = np.argsort(-values, kind="stable")
    ends = np.searchsorted(-values[order], -curve.scores[:best], side="right")
    right, both, chosen = np.zeros(count, np.int64), counts.copy(), best
    for place, more in enumerate(np.split(order, ends)[:best]):
        right += np.bincount(owners[more[found[more]]], minlength=count)
        both += np.bincount(owners[more], minlength=count)
        gap = _brought(right, both) - at_best
        error = np.sqrt((gap**2).sum() * count / max(1, count - 1))
        if curve.f1[best] - curve.f1[place] <= GIVEN_UP * error:
            chosen = place
            break
    below = float(curve.scores[chosen + 1]) if chosen + 1 < len(curve.scores) else 0.0
    steps = 10**DIGITS
    return float(np.ceil(np.round((curve.scores[chosen] + below) / 2 * steps, 6)) / steps)


def _brought(right: NDArray[np.int64], both: NDArray[np.int64]) -> Array:
    """What each picture brings to F1, from its hits and its detections and truths together; the sum is 0."""
    return np.asarray((2 * right - 2 * right.sum() / both.sum() * both) / both.sum())


def choose_score(
    curve: OperatingCurve, wish: Wish, amount: float = 0.95, miss_price: float = 1, alarm_price: float = 1
) -> float | None:
    """The minimum score that a wish asks for.

    Parameters
    ----------
    curve : OperatingCurve
    wish : {'precision', 'recall', 'f1', 'price'}
        At least ``amount`` of precision with as much recall as that leaves; at least ``amount`` of
        recall with as high a score as that leaves; the best F1; or the least sum of prices.
    amount : float
    miss_price, alarm_price : float
        What a miss and a false alarm cost.

    Returns
    -------
    float or None
        None where no minimum score does it; for 'price' that means that finding nothing is
        cheapest.

    Raises
    ------
    ValueError
        If the wish is unknown.

    Examples
    --------
    >>> curve = operating_curve([0.9, 0.8, 0.7, 0.3], [True, False, True, True], 4)
    >>> [choose_score(curve, wish, 0.7) for wish in ("precision", "recall", "f1")]
    [0.3, 0.3, 0.3]
    >>> choose_score(curve, "precision", 0.9), choose_score(curve, "recall", 0.9)
    (0.9, None)
    """
    if wish == "precision":
        good = np.flatnonzero(curve.precision >= amount - 1e-12)
        return float(curve.scores[good[-1]]) if len(good) else None
    if wish == "recall":
        good = np.flatnonzero(curve.recall >= amount - 1e-12)
        return float(curve.scores[good[0]]) if len(good) else None
    if wish == "f1":
        return float(curve.scores[curve.f1.argmax()]) if len(curve.scores) else None
    if wish == "price":
        prices = miss_price * (curve.truths - curve.hits) + alarm_price * curve.false_alarms
        if not len(prices) or prices.min() > miss_price * curve.truths:
            return None
        return float(curve.scores[prices.argmin()])
    raise ValueError(f"unknown wish {wish!r}")
