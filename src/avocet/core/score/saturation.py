"""A saturating curve through precision against number of pictures: what would more pictures be worth?"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

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
    ceiling, drop, exponent = _fit(x, y[None])[0].tolist()
    curve = ceiling - drop * x**-exponent
    spread = max(0.01, float(np.sqrt(((y - curve) ** 2).sum() / max(1, len(x) - 3))))
    drawn = generator.normal(0, spread, (RESAMPLES, len(x)))
    top, fall, rate = _fit(x, np.clip(curve + drawn, 0, 1)).T
    low, middle, high = np.clip(np.percentile(top - fall * asked**-rate, (5, 50, 95)), 0, 1)
    return Saturation(
        ceiling, drop, exponent, float(low), float(middle), float(high),
        float(ceiling - drop * x.max() ** -exponent),
    )  # fmt: skip


def _fit(x: Array, measured: Array) -> Array:
    """Ceiling, drop and exponent for each row of measured precisions."""
    # With room = 1 − ceiling, 1 − y = room + drop · x ** −exponent: both not negative.
    wanted = 1 - measured
    powers = (x / x.max()) ** -EXPONENTS[:, None]
    count, once, squares = len(x), powers.sum(axis=1), (powers**2).sum(axis=1)
    whole, product = wanted.sum(axis=1)[:, None], wanted @ powers.T
    # Least squares in two unknowns that may not be negative: the free optimum, or the better of those on the edges.
    room = (squares * whole - once * product) / (count * squares - once**2)
    fall = (count * product - once * whole) / (count * squares - once**2)
    free = (room >= 0) & (fall >= 0)
    rooms = np.stack(
        [np.where(free, room, 0), np.broadcast_to(np.maximum(whole / count, 0), free.shape), 0 * room]
    )
    falls = np.stack([np.where(free, fall, 0), 0 * fall, np.maximum(product / squares, 0)])
    left = wanted[:, None] - rooms[..., None] - falls[..., None] * powers
    residual = np.sqrt((left**2).sum(axis=-1))
    way = residual.argmin(axis=0)[None]
    residual, rooms, falls = (np.take_along_axis(each, way, 0)[0] for each in (residual, rooms, falls))
    # Of exponents that fit alike the slowest.
    best = (residual <= residual.min(axis=1, keepdims=True) + 1e-12).argmax(axis=1)[:, None]
    room, fall = (np.take_along_axis(each, best, 1)[:, 0] for each in (rooms, falls))
    exponent = EXPONENTS[best[:, 0]]
    return np.stack([1 - room, fall * x.max() ** exponent, exponent], axis=1)
