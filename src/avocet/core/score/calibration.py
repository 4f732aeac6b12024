"""Calibration: how often a score of 0.8 is right, and a rising map of scores after which it is eight times in ten."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array
from avocet.core.logistic import log_odds, sigmoid

CALIBRATED_SCORE = 0.05
"""Usually looked at from here on: detections below are many, and nobody uses them."""

ENOUGH_DETECTIONS = 100
"""Fewer say too little of how often a score is right: of made populations whose scores were nearly right a map fitted to 50
made two in three worse."""

FOLDS = 5
"""Parts that a map is tried on, each fitted to the others."""

CLEARLY = 1.5
"""Standard errors by which a map has to be the better one on detections that it was not fitted to. Of scores that were right
already, or nearly, up to 4 sets of 60 are then made worse; of 300 detections whose scores were off by 0.08 or more 58 of 60
sets are mended."""

WEIGHT_OF_IDENTITY = 3.0
"""How strongly the fit is held to leaving scores as they are: as some detections would."""

LEAST_RISE = 0.05
"""Log odds by which the map at least rises between the score held fast and those that are fitted."""

STEEPEST = 4.0
"""Slopes are no greater: scores near 1 would come to lie on 1, where they can no longer be told apart."""

NEAREST_TO_ONE = 1e-12


@dataclass(frozen=True)
class Reliability:
    """Scores in bins of equal width, and how often those of each bin were right.

    Attributes
    ----------
    edges : (B + 1,) ndarray of float64
    counts : (B,) ndarray of int64
    mean_score, share_right : (B,) ndarray of float64
        NaN where a bin is empty.
    expected_error : float
        Mean distance between score and share right over all detections; NaN without any.
    """

    edges: Array
    counts: NDArray[np.int64]
    mean_score: Array
    share_right: Array
    expected_error: float


def reliability(scores: ArrayLike, right: ArrayLike, bins: int = 10) -> Reliability:
    """Reliability curve and expected calibration error (Naeini et al., 2015; Guo et al., 2017).

    Parameters
    ----------
    scores : (D,) array_like
        From 0 to 1.
    right : (D,) array_like of bool
        True where the detection hit.
    bins : int
        Of equal width; a score on an edge belongs to the lower bin.

    Returns
    -------
    Reliability

    Raises
    ------
    ValueError
        If a score lies outside 0 to 1 or lengths differ.

    Examples
    --------
    >>> found = reliability([0.9, 0.9, 0.3, 0.3], [True, True, True, False], bins=2)
    >>> found.share_right, found.counts
    (array([0.5, 1. ]), array([2, 2]))
    >>> round(found.expected_error, 3)
    0.15
    """
    values, hits = _checked(scores, right)
    edges = np.linspace(0, 1, bins + 1)
    place = np.clip(np.ceil(values * bins - 1e-12).astype(np.int64) - 1, 0, bins - 1)
    counts = np.bincount(place, minlength=bins)
    known = counts > 0
    mean_score, share = np.full(bins, np.nan), np.full(bins, np.nan)
    mean_score[known] = np.bincount(place, values, bins)[known] / counts[known]
    share[known] = np.bincount(place, hits, bins)[known] / counts[known]
    off = np.abs(mean_score - share)[known] * counts[known]
    error = float(off.sum() / counts.sum()) if counts.sum() else float("nan")
    return Reliability(edges, counts, mean_score, share, error)


@dataclass(frozen=True)
class ScoreMap:
    """A strictly rising map of scores: beta calibration, with the scores below held to an end.

    From `CALIBRATED_SCORE` (c) on, log odds of the mapped score = ``base`` + ``rise`` · (ln s − ln c)
    − ``fall`` · (ln(1 − s) − ln(1 − c)). Below, they are a line in ln s, such that ``fixed`` maps to itself.

    As it rises, the order of scores, and with it average precision, stays what it is; and what is looked at
    from ``fixed`` on stays the same too.

    Attributes
    ----------
    base : float
        Log odds of the mapped `CALIBRATED_SCORE`.
    rise, fall : float
        Slopes, above 0.
    fixed : float
        Below `CALIBRATED_SCORE`.
    """

    base: float
    rise: float
    fall: float
    fixed: float

    def __call__(self, scores: ArrayLike) -> Array:
        """Map scores.

        Parameters
        ----------
        scores : array_like
            From 0 to 1.

        Returns
        -------
        ndarray of float64

        Examples
        --------
        The map that changes nothing:

        >>> ScoreMap(log_odds(CALIBRATED_SCORE), 1.0, 1.0, 0.01)([0.01, 0.4, 1.0]).round(6)
        array([0.01, 0.4 , 1.  ])
        """
        values = np.clip(np.asarray(scores, np.float64), NEAREST_TO_ONE, 1 - NEAREST_TO_ONE)
        fitted = self.base + _features(values) @ [self.rise, self.fall]
        share = np.log(values / self.fixed) / np.log(CALIBRATED_SCORE / self.fixed)
        below = log_odds(self.fixed) + share * (self.base - log_odds(self.fixed))
        return sigmoid(np.where(values < CALIBRATED_SCORE, below, fitted))

    def back(self, mapped: ArrayLike) -> Array:
        """The scores that are mapped to values: for a minimum score, the one to look for.

        Parameters
        ----------
        mapped : array_like
            From 0 to 1.

        Returns
        -------
        ndarray of float64

        Examples
        --------
        >>> curve = ScoreMap(-2.5, 2.0, 0.5, 0.01)
        >>> curve.back(curve([0.02, 0.05, 0.7])).round(9), curve.back([0.0, 1.0])
        (array([0.02, 0.05, 0.7 ]), array([0., 1.]))
        """
        wanted = np.asarray(mapped, np.float64)
        low, high = np.zeros_like(wanted), np.ones_like(wanted)
        for _ in range(60):
            middle = (low + high) / 2
            below = self(middle) < wanted
            low, high = np.where(below, middle, low), np.where(below, high, middle)
        return np.where(wanted <= 0, 0.0, high)


def reliability_before(scores: ArrayLike, right: ArrayLike, calibrated: ScoreMap) -> Reliability:
    """The reliability that mapped scores had before they were mapped, from `CALIBRATED_SCORE` on.

    Parameters
    ----------
    scores : (D,) array_like
        As the map gave them.
    right : (D,) array_like of bool
    calibrated : ScoreMap

    Returns
    -------
    Reliability

    Raises
    ------
    ValueError
        As `reliability`.

    Examples
    --------
    >>> curve = ScoreMap(-1.0, 1.0, 1.0, 0.01)
    >>> reliability_before(curve([0.03, 0.6]), [True, True], curve).counts.sum()
    np.int64(1)
    """
    values, hits = _checked(scores, right)
    former = calibrated.back(values)
    used = former >= CALIBRATED_SCORE
    return reliability(former[used], hits[used])


def calibrate(scores: ArrayLike, right: ArrayLike, fixed: float) -> ScoreMap | None:
    """Fit a map after which a score says how often it is right.

    Beta calibration (Kull, Silva Filho and Flach, 2017) by maximum likelihood; a weak pull towards no
    change keeps few detections from bending it. It is used only where it is clearly better than no map on detections
    that it was not fitted to (cross-validation; Stone, 1974): a map of few detections may make scores worse.

    Parameters
    ----------
    scores : (D,) array_like
        From 0 to 1. Those below `CALIBRATED_SCORE` are left out: they are many, and nobody uses them.
    right : (D,) array_like of bool
        True where the detection hit.
    fixed : float
        A score that stays what it is, above 0 and below `CALIBRATED_SCORE`.

    Returns
    -------
    ScoreMap or None
        None where there are too few detections, all are right or all are wrong, or it is not clearly better.

    Raises
    ------
    ValueError
        If a score lies outside 0 to 1 or lengths differ.

    Examples
    --------
    Scores of 0.5 that are right nine times in ten:

    >>> found = calibrate([0.5] * 400, [True] * 360 + [False] * 40, 0.01)
    >>> round(float(found(0.5)), 2)
    0.9
    """
    values, hits = _checked(scores, right)
    used = values >= CALIBRATED_SCORE
    values, hits = np.clip(values[used], CALIBRATED_SCORE, 1 - NEAREST_TO_ONE), hits[used]
    if len(values) < ENOUGH_DETECTIONS or hits.all() or not hits.any():
        return None
    return _fitted(values, hits, fixed) if _is_clearly_better(values, hits, fixed) else None


def _is_clearly_better(values: Array, hits: NDArray[np.bool_], fixed: float) -> bool:
    """Whether maps fitted to four fifths say of the last fifth more surely than its scores do what is right."""
    fold = np.empty(len(values), dtype=np.int64)
    # Each part has low and high scores, right and wrong ones.
    fold[np.lexsort((values, hits))] = np.arange(len(values)) % FOLDS
    gains = np.zeros(len(values))
    for part in range(FOLDS):
        own = fold == part
        rest = ~own
        if hits[rest].all() or not hits[rest].any():
            return False
        mapped = _fitted(values[rest], hits[rest], fixed)(values[own])
        gains[own] = _log_likelihood(mapped, hits[own]) - _log_likelihood(values[own], hits[own])
    return bool(gains.mean() > CLEARLY * gains.std() / np.sqrt(len(gains)))


def _log_likelihood(scores: Array, hits: NDArray[np.bool_]) -> Array:
    """Of each verdict under its score. No score is believed to be sure beyond one in a thousand."""
    believed = np.clip(scores, 1e-3, 1 - 1e-3)
    return np.where(hits, np.log(believed), np.log1p(-believed))


def _fitted(values: Array, hits: NDArray[np.bool_], fixed: float) -> ScoreMap:
    """The map of most likelihood."""
    features, sign = np.insert(_features(values), 0, 1.0, axis=1), np.where(hits, 1.0, -1.0)
    unchanged = log_odds(CALIBRATED_SCORE)

    def cost(asked: Array) -> tuple[float, Array]:
        odds = features @ asked
        pull = np.array([asked[0] - unchanged, *np.log(asked[1:])])
        loss = float(np.logaddexp(0, -sign * odds).sum() + WEIGHT_OF_IDENTITY * (pull**2).sum())
        slope = 2 * WEIGHT_OF_IDENTITY * pull / np.array([1.0, *asked[1:]])
        return loss, -(sign * sigmoid(-sign * odds)) @ features + slope

    bounds = [(log_odds(fixed) + LEAST_RISE, 20.0), (1e-2, STEEPEST), (1e-2, STEEPEST)]
    fitted = scipy.optimize.minimize(
        cost, [unchanged, 1.0, 1.0], jac=True, method="L-BFGS-B", bounds=bounds
    ).x
    base, rise, fall = (float(each) for each in fitted)
    return ScoreMap(base, rise, fall, float(fixed))


def _features(scores: Array) -> Array:
    """What the slopes are of: ln s and −ln(1 − s), both 0 at `CALIBRATED_SCORE`."""
    rising = np.log(scores) - np.log(CALIBRATED_SCORE)
    falling = np.log1p(-CALIBRATED_SCORE) - np.log1p(-scores)
    return np.stack([rising, falling], axis=-1)


def _checked(scores: ArrayLike, right: ArrayLike) -> tuple[Array, NDArray[np.bool_]]:
    values, hits = np.asarray(scores, np.float64).reshape(-1), np.asarray(right, bool).reshape(-1)
    if len(values) != len(hits):
        raise ValueError(f"{len(values)} scores and {len(hits)} verdicts do not match")
    if len(values) and not (values.min() >= 0 and values.max() <= 1):
        raise ValueError("a score lies outside 0 to 1")
    return values, hits
