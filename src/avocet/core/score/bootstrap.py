"""How sure a mean average precision is: the bootstrap over pictures."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.core.score.measurement import MatchedPictures

RESAMPLES = 1000
CHUNK = 250
"""Resamples that are counted at a time."""


@dataclass(frozen=True)
class Resampled:
    """Average precisions of resampled pictures.

    Attributes
    ----------
    average_precision : (T, K, R) ndarray of float64
        NaN where a resample has no truth of a class.
    """

    average_precision: Array

    def mean(self, level: int | None = None) -> Array:
        """(R,) mAP at one threshold's place, or over all of them; classes without truths left out."""
        values = self.average_precision if level is None else self.average_precision[[level]]
        known = ~np.isnan(values)
        total = np.where(known, values, 0).sum(axis=(0, 1))
        count = known.sum(axis=(0, 1))
        mean: Array = np.divide(total, count, out=np.full(len(total), np.nan), where=count > 0)
        return mean


def resample(
    matched: MatchedPictures, generator: np.random.Generator, resamples: int = RESAMPLES
) -> Resampled:
    """Average precision of pictures drawn anew, with putting back (Efron, 1979).

    Pictures are matched once; what changes is how often each counts. Precision is read at 101
    recalls as in `avocet.core.score.measurement.measure_detections`. Two models that were matched on
    the same pictures are compared by giving both a generator of the same state: each resample
    then draws the same pictures for both.

    Parameters
    ----------
    matched : MatchedPictures
        Its first area range is measured.
    generator : numpy.random.Generator
    resamples : int

    Returns
    -------
    Resampled
    """
    levels, classes = len(matched.thresholds), len(matched.class_ids)
    made = np.full((levels, classes, resamples), np.nan)
    for start in range(0, resamples, CHUNK):
        stop = min(resamples, start + CHUNK)
        drawn = generator.multinomial(
            matched.pictures, np.full(matched.pictures, 1 / max(1, matched.pictures)), size=stop - start
        ).T.astype(np.float32)  # whole numbers, exact up to 16 million
        for number in range(classes):
            real = matched.counted[0] & (matched.truth_kind == number)
            truths = drawn[matched.truth_picture[real]].sum(axis=0)
            if not real.any():
                continue
            made[:, number, start:stop] = _class(matched, matched.of_class(number), drawn, truths)
    return Resampled(made)


def interval(values: Array, measured: float, share: float = 0.95) -> tuple[float, float]:
    """The percentile interval that holds a share of resampled values, about what was measured.

    Resampled precision is a little too high, as pictures drawn twice bring no new false alarms;
    the interval is moved by that bias, so that its middle is what was measured.

    Parameters
    ----------
    values : (R,) ndarray of float64
    measured : float
        The same figure of all pictures.
    share : float

    Returns
    -------
    low, high : float
        NaN without any value.

    Examples
    --------
    >>> low, high = interval(np.arange(0.5, 0.7, 0.001), 0.59, 0.9)
    >>> round(low, 3), round(high, 3)
    (0.5, 0.68)
    """
    known = values[~np.isnan(values)]
    if not len(known) or np.isnan(measured):
        return float("nan"), float("nan")
    low, high = np.percentile(known, [50 * (1 - share), 50 * (1 + share)])
    bias = known.mean() - measured
    return float(np.clip(low - bias, 0, 1)), float(np.clip(high - bias, 0, 1))


def _class(
    matched: MatchedPictures, part: slice, drawn: NDArray[np.float32], truths: NDArray[np.float32]
) -> Array:
    """(T, R) average precisions of one class."""
    pictures, hit, skipped = matched.picture[part], matched.hit[:, 0, part], matched.skipped[:, 0, part]
    made = np.zeros((len(hit), drawn.shape[1]))
    made[:, truths == 0] = np.nan
    seen = np.cumsum(drawn[pictures], axis=0)
    for level in range(len(hit)):
        places = np.flatnonzero(hit[level])
        if not len(places):
            continue
        right = np.cumsum(drawn[pictures[places]], axis=0)
        counted = seen[places]
        passed = np.flatnonzero(skipped[level])
        if len(passed):
            before = np.cumsum(np.vstack([np.zeros((1, drawn.shape[1])), drawn[pictures[passed]]]), axis=0)
            counted = counted - before[np.searchsorted(passed, places)]
        precision = np.divide(right, counted, out=np.zeros(right.shape), where=counted > 0)
        envelope = np.maximum.accumulate(precision[::-1], axis=0)[::-1]
        recall = np.divide(right, truths, out=np.zeros(right.shape), where=truths > 0)
        # How many of the recalls 0, 0.01, …, 1 each hit is the first to reach.
        reached = np.floor(100 * recall + 1e-9) + 1
        reached[right == 0] = 0
        fresh = np.diff(reached, axis=0, prepend=0)
        made[level] = np.where(truths > 0, (envelope * fresh).sum(axis=0) / 101, np.nan)
    return made
