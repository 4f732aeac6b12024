"""How much better one detector is than another, and whether by more than chance."""

from dataclasses import dataclass

import numpy as np

from avocet.core.score.chance.resampling import LEAST_PICTURES, Resampled, chosen_part, expanded_tail
from avocet.core.score.chance.swapping import SAME, Swapped

FORETELLING_SEED = 0


@dataclass(frozen=True)
class Difference:
    """How much higher the second figure is than the first.

    Attributes
    ----------
    amount : float
        As measured; NaN where one of them is.
    low, high : float
        The range in which the mean difference over many such sets of pictures lies; NaN where too
        few pictures have a truth. It holds 0 unless the difference is more than chance.
    chance : float
        How often exchanged answers differ as much.
    ahead : float
        On another set of as many such pictures, how likely the second comes out ahead; a draw
        counts half.
    same : bool
        Whether no resample shows any difference.
    share : float
        Of the range.
    """

    amount: float
    low: float
    high: float
    chance: float
    ahead: float
    same: bool
    share: float = 0.95

    @property
    def more_than_chance(self) -> bool:
        """Whether exchanged answers rarely differ as much, and the range leaves out 0."""
        return bool(self.chance <= 1 - self.share and (self.low > 0 or self.high < 0))


def difference(
    first: Resampled,
    second: Resampled,
    swapped: Swapped,
    level: int | None = None,
    kind: int | None = None,
    share: float = 0.95,
) -> Difference:
    """Compare one figure of two detectors.

    Whether it is more than chance is said by the exchanged answers (see
    `avocet.core.score.chance.swapping`), which is exact; how much it is, by the paired resamples
    (Efron and Tibshirani, 1993). As for a single figure, the range is given one truth that was not
    among the pictures, which for its lower end only the first would have found, and for its upper
    end only the second.

    Parameters
    ----------
    first, second : Resampled
        Of the same draw.
    swapped : Swapped
    level, kind : int, optional
        Place of the threshold and of the class; by default the mean over all.
    share : float

    Returns
    -------
    Difference

    Raises
    ------
    ValueError
        If there are not as many resamples of both.
    """
    if first.average_precision.shape != second.average_precision.shape:
        raise ValueError(
            f"{first.average_precision.shape} and {second.average_precision.shape} resamples cannot be paired"
        )
    amount = second.figure(level, kind) - first.figure(level, kind)
    chance = swapped.chance(amount, level, kind)
    gaps = second.drawn(level, kind) - first.drawn(level, kind)
    same = bool(np.isnan(amount) or not np.abs(gaps).max(initial=0) > SAME)
    pictures = first.pictures if kind is None else int(first.holding[kind])
    if np.isnan(amount) or pictures < LEAST_PICTURES:
        nan = float("nan")
        return Difference(amount, nan, nan, chance, nan, same, share)
    kinds = chosen_part(kind)
    known = ~np.isnan(first.measured[0, kinds])
    truths, unseen = first.truths[kinds][known], first.unseen[kinds][known]
    one_more = (unseen / (truths + unseen)).mean(axis=0)
    tail = expanded_tail((1 - share) / 2, pictures)
    low = float(min(np.quantile(gaps - one_more, tail), amount))
    high = float(max(np.quantile(gaps + one_more, 1 - tail), amount))
    if not chance <= 1 - share:
        low, high = min(low, 0.0), max(high, 0.0)
    return Difference(amount, low, high, chance, _ahead(gaps, amount), same, share)


def _ahead(gaps: np.ndarray, amount: float) -> float:
    """How likely another set shows a gap above 0: it wavers about the true gap, which is not known either."""
    order = np.random.default_rng(FORETELLING_SEED).permutation(len(gaps))
    foretold = gaps + (gaps[order] - gaps.mean())
    if np.abs(gaps).max(initial=0) <= SAME:
        foretold = gaps
    return float(np.mean(foretold > SAME) + 0.5 * np.mean(np.abs(foretold) <= SAME))
