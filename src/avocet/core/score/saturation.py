"""A saturating curve through precision against number of pictures: what would more pictures be worth?"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.optimize import nnls

from avocet.core.boxes import Array

EXPONENTS = np.linspace(0.2, 2.0, 37)
"""How fast the curve may level off; measured learning curves mostly lie within."""

RESAMPLES = 400


@dataclass(frozen=True)
class Saturation:
    """A fitted curve ``ceiling − drop · pictures ** −exponent`` and how sure it is.

    Attributes
    ----------
    ceiling, drop, exponent : float
    low, middle, high : float
        Precision expected with as many pictures as were asked for: 5th, 50th and 95th
        percentile over refits.
    now : float
        The curve at the greatest number of pictures measured.
    """

    ceiling: float
    drop: float
    exponent: float
    low: float
    middle: float
    high: float
    now: float

    def at(self, pictures: ArrayLike) -> Array:
        """The curve at numbers of pictures."""
        return np.asarray(self.ceiling - self.drop * np.asarray(pictures, dtype=np.float64) ** -self.exponent)


def fit_saturation(
    pictures: Sequence[float], precision: Sequence[float], asked: float, generator: np.random.Generator
) -> Saturation:
    """Fit an inverse power law, as learning curves follow (Hestness et al., 2017), by least squares.

    For each exponent on a grid ceiling and drop are found by linear least squares with both kept
    from being negative and the ceiling at most 1; the best exponent is taken. The uncertainty
    comes from refits with residuals drawn anew (the parametric bootstrap); where there are as
    few points as parameters, the residual is taken to be at least 0.01.

    Parameters
    ----------
    pictures : sequence of float
        Numbers of training pictures, at least three different ones.
    precision : sequence of float
        Measured with each, 0 to 1.
    asked : float
        Number of pictures to foresee.
    generator : numpy.random.Generator

    Returns
    -------
    Saturation

    Raises
    ------
    ValueError
        If there are fewer than three different numbers of pictures, or lengths differ.

    Examples
    --------
    >>> fitted = fit_saturation([10, 20, 40, 80], [0.6, 0.7, 0.75, 0.775], 160, np.random.default_rng(0))
    >>> round(fitted.exponent, 2), round(fitted.ceiling, 2), round(float(fitted.at(160)), 2)
    (1.0, 0.8, 0.79)
    """
    x, y = np.asarray(pictures, dtype=np.float64), np.asarray(precision, dtype=np.float64)
    if x.shape != y.shape:
        raise ValueError(f"{len(x)} numbers of pictures do not go with {len(y)} precisions")
    if len(np.unique(x)) < 3 or (x <= 0).any():
        raise ValueError("a curve needs at least three different numbers of pictures, all above 0")
    ceiling, drop, exponent = _fit(x, y)
    curve = ceiling - drop * x**-exponent
    spread = max(0.01, float(np.sqrt(((y - curve) ** 2).sum() / max(1, len(x) - 3))))
    foreseen = []
    for _ in range(RESAMPLES):
        top, fall, rate = _fit(x, np.clip(curve + generator.normal(0, spread, len(x)), 0, 1))
        foreseen.append(top - fall * asked**-rate)
    low, middle, high = np.clip(np.percentile(foreseen, (5, 50, 95)), 0, 1)
    return Saturation(
        ceiling, drop, exponent, float(low), float(middle), float(high),
        float(ceiling - drop * x.max() ** -exponent),
    )  # fmt: skip


def _fit(x: Array, y: Array) -> tuple[float, float, float]:
    best: tuple[float, float, float] = (float(y.mean()), 0.0, 1.0)
    least = np.inf
    for exponent in EXPONENTS:
        # With room = 1 − ceiling, 1 − y = room + drop · x ** −exponent: both not negative.
        powers: NDArray[np.float64] = np.stack([np.ones(len(x)), (x / x.max()) ** -exponent], axis=1)
        (room, scaled), residual = nnls(powers, 1 - y)
        if residual < least - 1e-12:
            least = residual
            best = (float(1 - room), float(scaled * x.max() ** exponent), float(exponent))
    return best
