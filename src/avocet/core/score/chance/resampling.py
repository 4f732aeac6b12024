"""How sure a mean average precision is: the Bayesian bootstrap over pictures."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.core.score.measurement import RECALL_POINTS, MatchedPictures
from avocet.core.score.recalls import precision_over_recalls

RESAMPLES = 1000
CHUNK = 250
"""Resamples that are counted at a time."""

LEAST_PICTURES = 5
"""Of fewer pictures with a truth no interval is told: nearly every value could lie in it."""

UNSEEN = 0.5
"""A truth's share that may have gone unseen, by the rule of Jeffreys for shares."""


@dataclass(frozen=True)
class Resampled:
    """Average precisions of pictures weighted anew.

    Attributes
    ----------
    measured : (T, K) ndarray of float64
        With every picture counted once; NaN where a class has no truth.
    average_precision : (T, K, R) ndarray of float64
    truths : (K, R) ndarray of float64
        Sum of the weights of a class's truths; pictures weigh 1 in the mean.
    unseen : (K, R) ndarray of float64
        Weight of one truth that was not among the pictures, `UNSEEN` in the mean.
    holding : (K,) ndarray of int64
        Pictures with a truth of the class.
    pictures : int
        Pictures with any truth.
    """

    measured: Array
    average_precision: Array
    truths: Array
    unseen: Array
    holding: NDArray[np.int64]
    pictures: int

    def figure(self, level: int | None = None, kind: int | None = None) -> float:
        """The figure as measured, at one threshold's place or all, of one class or the mean; NaN without truths."""
        return float(mean_figure(self.measured[chosen_part(level), chosen_part(kind), None])[0])

    def drawn(self, level: int | None = None, kind: int | None = None) -> Array:
        """(R,) the same figure of each resample."""
        return mean_figure(self.average_precision[chosen_part(level), chosen_part(kind)])

    def interval(
        self, level: int | None = None, kind: int | None = None, share: float = 0.95
    ) -> tuple[float, float]:
        """The range in which the mean over many such sets of pictures lies.

        The quantiles of the resampled figures, a little further out than the share says where there
        are few pictures (Hesterberg, 2015). For the lower end each class is given one more truth,
        of a random weight of a half in the mean, that was missed: who found all of ten may have
        missed one of eleven. For the upper end a class of which nothing was found is given one that
        was. Average precision of few truths is too high in the mean; by as much as the resampled
        figures show of that, the lower end is moved down.

        Parameters
        ----------
        level : int, optional
            Place of an IoU threshold; by default the mean over all.
        kind : int, optional
            Place of a class; by default the mean over all.
        share : float
            Of all sets of pictures, those whose interval holds the mean.

        Returns
        -------
        low, high : float
            NaN where there is no truth, or where fewer than `LEAST_PICTURES` have one.
        """
        pictures = self.pictures if kind is None else int(self.holding[kind])
        value = self.figure(level, kind)
        if pictures < LEAST_PICTURES or np.isnan(value) or not self.average_precision.shape[2]:
            return float("nan"), float("nan")
        tail = expanded_tail((1 - share) / 2, pictures)
        drawn, measured = (
            self.average_precision[chosen_part(level), chosen_part(kind)],
            self.measured[chosen_part(level), chosen_part(kind)],
        )
        truths, unseen = self.truths[chosen_part(kind)], self.unseen[chosen_part(kind)]
        missed = mean_figure(drawn * truths / (truths + unseen))
        lucky = (drawn * truths + unseen) / (truths + unseen)
        found = mean_figure(np.where(measured[:, :, None] > 0, drawn, lucky))
        bias = max(0.0, float(self.drawn(level, kind).mean()) - value)
        low, high = np.quantile(missed, tail) - bias, np.quantile(found, 1 - tail)
        return max(0.0, min(float(low), value)), min(1.0, max(float(high), value))


def expanded_tail(tail: float, pictures: int) -> float:
    """The quantile to take of resamples of few pictures, so that what lies beyond is as much as wanted.

    Parameters
    ----------
    tail : float
        Share wanted beyond one end.
    pictures : int
        At least 2.

    Returns
    -------
    float
        As the Student distribution is wider than the normal one, and the spread of n pictures
        about their own mean is narrower than about the true one (Hesterberg, 2015).

    Examples
    --------
    >>> round(expanded_tail(0.025, 20), 4), round(expanded_tail(0.025, 2000), 4)
    (0.0159, 0.0249)
    """
    reach = scipy.special.stdtrit(pictures - 1, tail) * np.sqrt(pictures / (pictures - 1))
    return float(scipy.special.ndtr(reach))


def resample(
    matched: MatchedPictures,
    generator: np.random.Generator,
    resamples: int = RESAMPLES,
    span: int = 0,
) -> Resampled:
    """Average precision of pictures given random weights (the Bayesian bootstrap; Rubin, 1981).

    Pictures are matched once; what changes is how much each counts, so that no class goes without
    truths in any resample. Precision is read by `avocet.core.score.recalls`, as where it is measured.
    Two models that were matched on the same pictures are compared by giving both a generator of
    the same state: each resample then weighs the pictures alike for both.

    Parameters
    ----------
    matched : MatchedPictures
    generator : numpy.random.Generator
    resamples : int
    span : int
        Place of the area range to measure.

    Returns
    -------
    Resampled
    """
    levels, classes = len(matched.thresholds), len(matched.class_ids)
    made = np.full((levels, classes, resamples), np.nan)
    real = matched.counted[span]
    kinds, owners = matched.truth_kind[real], matched.truth_picture[real]
    truths = np.zeros((classes, resamples))
    unseen = generator.gamma(UNSEEN, 1, (classes, resamples))
    for start in range(0, resamples, CHUNK):
        part = slice(start, min(resamples, start + CHUNK))
        weights = generator.exponential(1, (matched.pictures, part.stop - start))
        weights *= matched.pictures / np.maximum(weights.sum(axis=0), 1e-300)
        for number in np.unique(kinds).tolist():
            truths[number, part] = weights[owners[kinds == number]].sum(axis=0)
            made[:, number, part] = weighted_precision(matched, number, weights, truths[number, part], span)
    holding = np.bincount(np.unique(np.stack([kinds, owners]), axis=1)[0], minlength=classes)
    once = np.ones((matched.pictures, 1))
    measured = np.full((levels, classes), np.nan)
    for number, count in enumerate(np.bincount(kinds, minlength=classes).tolist()):
        if count:
            measured[:, number] = weighted_precision(matched, number, once, np.array([float(count)]), span)[
                :, 0
            ]
    return Resampled(measured, made, truths, unseen, holding, len(np.unique(owners)))


def weighted_precision(
    matched: MatchedPictures, number: int, weights: Array, truths: Array, span: int = 0
) -> Array:
    """Average precision of one class with pictures that count more or less.

    Parameters
    ----------
    matched : MatchedPictures
    number : int
        Place of the class.
    weights : (pictures, R) ndarray of float64
    truths : (R,) ndarray of float64
        Sum of the weights of its truths.
    span : int
        Place of the area range.

    Returns
    -------
    (T, R) ndarray of float64
    """
    part = matched.of_class(number)
    pictures, hit, skipped = matched.picture[part], matched.hit[:, span, part], matched.skipped[:, span, part]
    made = np.where(truths > 0, 0.0, np.nan)[None].repeat(len(hit), axis=0)
    for level in range(len(hit)):
        places = np.flatnonzero(hit[level])
        if not len(places):
            continue
        counted = np.flatnonzero(~skipped[level, : places[-1] + 1])
        # Row h gathers what is seen after the hit before and up to hit h.
        row = np.searchsorted(places, counted, side="left")
        between = scipy.sparse.csr_matrix(
            (np.ones(len(counted)), (row, pictures[counted])), shape=(len(places), len(weights))
        )
        seen = np.cumsum(between @ weights, axis=0)
        found = np.cumsum(weights[pictures[places]], axis=0)
        made[level] = precision_over_recalls(found, seen, truths, RECALL_POINTS)
    return made


def chosen_part(place: int | None) -> slice:
    """One threshold or class by its place, or all of them."""
    return slice(None) if place is None else slice(place, place + 1)


def mean_figure(values: Array) -> Array:
    """(R,) mean over thresholds and classes of (T, K, R) values; NaN are left out."""
    known = ~np.isnan(values)
    total, count = np.where(known, values, 0).sum(axis=(0, 1)), known.sum(axis=(0, 1))
    mean: Array = np.divide(total, count, out=np.full(len(total), np.nan), where=count > 0)
    return mean
