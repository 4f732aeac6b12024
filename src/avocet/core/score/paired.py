"""Whether one detector is better than another by more than chance: the paired bootstrap."""

from dataclasses import dataclass

import numpy as np

from avocet.core.boxes import Array


@dataclass(frozen=True)
class Difference:
    """How much higher the second figure is than the first.

    Attributes
    ----------
    amount : float
        As measured; NaN where one of them is.
    low, high : float
        The interval that holds a share of the resampled differences.
    better : float
        Share of the resamples in which the second is higher; ties count half.
    """

    amount: float
    low: float
    high: float
    better: float

    @property
    def more_than_chance(self) -> bool:
        """Whether the interval leaves out 0."""
        return bool(self.low > 0 or self.high < 0)


def difference(
    first: Array, second: Array, first_measured: float, second_measured: float, share: float = 0.95
) -> Difference:
    """Compare two figures whose resamples drew the same pictures (Efron and Tibshirani, 1993).

    Parameters
    ----------
    first, second : (R,) ndarray of float64
        Resampled figures, of the same draw at the same place; NaN where one could not be measured.
    first_measured, second_measured : float
        The figures of all pictures.
    share : float

    Returns
    -------
    Difference

    Raises
    ------
    ValueError
        If there are not as many resamples of both.

    Examples
    --------
    >>> draws = np.linspace(-0.05, 0.05, 101)
    >>> found = difference(0.8 + draws, 0.9 + draws / 2, 0.8, 0.9)
    >>> round(found.amount, 3), round(found.low, 3), round(found.high, 3), found.more_than_chance
    (0.1, 0.076, 0.124, True)
    """
    if len(first) != len(second):
        raise ValueError(f"{len(first)} and {len(second)} resamples cannot be paired")
    amount = float(second_measured - first_measured)
    gaps = second - first
    gaps = gaps[~np.isnan(gaps)]
    if not len(gaps) or np.isnan(amount):
        return Difference(amount, float("nan"), float("nan"), float("nan"))
    low, high = np.percentile(gaps, [50 * (1 - share), 50 * (1 + share)])
    bias = gaps.mean() - amount
    better = float(np.mean(gaps > 0) + 0.5 * np.mean(gaps == 0))
    return Difference(amount, float(low - bias), float(high - bias), better)
