"""Calibration: how often a score of 0.8 is right."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array

CALIBRATED_SCORE = 0.05
"""Usually looked at from here on: detections below are many, and nobody uses them."""


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
    values, hits = np.asarray(scores, np.float64).reshape(-1), np.asarray(right, bool).reshape(-1)
    if len(values) != len(hits):
        raise ValueError(f"{len(values)} scores and {len(hits)} verdicts do not match")
    if len(values) and not (values.min() >= 0 and values.max() <= 1):
        raise ValueError("a score lies outside 0 to 1")
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
