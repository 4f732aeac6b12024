"""Whether two detectors differ by more than chance: their answers exchanged picture by picture."""

from dataclasses import dataclass, replace

import numpy as np

from avocet.core.boxes import Array
from avocet.core.score.chance.resampling import CHUNK, RESAMPLES, chosen_part, mean_figure, weighted_precision
from avocet.core.score.measurement import MatchedPictures

SAME = 1e-12
"""Differences closer to one another than this are equal."""


@dataclass(frozen=True)
class Swapped:
    """Average precisions of two detectors that exchanged their answers on some pictures.

    Attributes
    ----------
    first, second : (T, K, R) ndarray of float64
        NaN where a class has no truth.
    """

    first: Array
    second: Array

    def chance(self, amount: float, level: int | None = None, kind: int | None = None) -> float:
        """How often a difference as great comes about where it does not matter who answered.

        Parameters
        ----------
        amount : float
            The difference that was measured.
        level, kind : int, optional
            Place of the threshold and the class, as in `avocet.core.score.chance.resampling.Resampled.figure`.

        Returns
        -------
        float
            Above 0, at most 1; the exchange that was measured counts among them. NaN without truths.
        """
        if np.isnan(amount):
            return float("nan")
        means = mean_figure((self.second - self.first)[chosen_part(level), chosen_part(kind)])
        as_great = int((np.abs(means) >= abs(amount) - SAME).sum())
        return (1 + as_great) / (1 + len(means))


def swap(
    first: MatchedPictures, second: MatchedPictures, generator: np.random.Generator, swaps: int = RESAMPLES
) -> Swapped:
    """Exchange the answers of two detectors on pictures chosen by lot (Fisher's randomisation test).

    If it does not matter which of the two looked at a picture, every exchange is as likely as what
    was measured, whatever the pictures are like and however few: the test is exact.

    Parameters
    ----------
    first, second : MatchedPictures
        Matched on the same pictures and truths.
    generator : numpy.random.Generator
    swaps : int

    Returns
    -------
    Swapped

    Raises
    ------
    ValueError
        If they were not matched on as many pictures, classes and thresholds.
    """
    if first.pictures != second.pictures or first.hit.shape[:2] != second.hit.shape[:2]:
        raise ValueError("two detectors are exchanged on the same pictures, thresholds and sizes only")
    both = _together(first, second)
    shape = (len(first.thresholds), len(first.class_ids), swaps)
    made = np.full(shape, np.nan), np.full(shape, np.nan)
    real = first.counted[0]
    counts = np.bincount(first.truth_kind[real], minlength=shape[1])
    for start in range(0, swaps, CHUNK):
        part = slice(start, min(swaps, start + CHUNK))
        stays = generator.integers(0, 2, (first.pictures, part.stop - start)).astype(np.float64)
        for number in np.flatnonzero(counts).tolist():
            truths = np.full(stays.shape[1], float(counts[number]))
            for values, keeps in zip(made, (stays, 1 - stays), strict=True):
                weights = np.concatenate([keeps, 1 - keeps])
                values[:, number, part] = weighted_precision(both, number, weights, truths)
    return Swapped(*made)


def _together(first: MatchedPictures, second: MatchedPictures) -> MatchedPictures:
    """The detections of both in one list; the second's pictures come after the first's."""
    kind = np.concatenate([first.kind, second.kind])
    scores = np.concatenate([first.scores, second.scores])
    owner = np.concatenate([first.picture, second.picture])
    rank = np.concatenate([first.rank, second.rank])
    # As where one is matched: of equal scores the earlier picture comes first, then the better rank.
    order = np.lexsort((rank, owner, -scores, kind))
    picture = np.concatenate([first.picture, second.picture + first.pictures])
    return replace(
        first,
        pictures=2 * first.pictures,
        kind=kind[order],
        picture=picture[order],
        rank=rank[order],
        scores=scores[order],
        hit=np.concatenate([first.hit, second.hit], axis=2)[:, :, order],
        skipped=np.concatenate([first.skipped, second.skipped], axis=2)[:, :, order],
    )
