"""Curves through precision against number of pictures: what would more pictures be worth?"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
import scipy
from numpy.typing import ArrayLike

from avocet.core.boxes import Array

RESAMPLES = 400
LEAST_SPREAD = 0.01
"""Trainings that differ in nothing but the seed waver at least so much, in precision."""

STRAY = 3.0
"""A family is believed while what it misses is no more than so many variances beyond what the best one misses."""

EXPONENTS = np.linspace(0.2, 2.0, 19)
SHARES = np.geomspace(0.1, 4.0, 45)
"""Numbers of pictures, in parts of the greatest measured, after which an exponential or an S-shaped curve turns."""
SLOPES = np.geomspace(0.15, 1.2, 12)

Falling = Callable[[Array], Array]
"""What is still missing with so many pictures, in parts of the greatest number measured."""


def _families() -> dict[str, list[Falling]]:
    """Shapes by family; each is ``top − fall · shape``, with neither room above nor fall negative.

    An S-shaped curve begins at 0: with a floor of its own it could rise out of any level stretch.
    """
    return {
        "power": [partial(_power, each) for each in EXPONENTS],
        "exponential": [partial(_exponential, each) for each in SHARES],
        "logarithm": [_logarithm],
        "S-shaped": [partial(_s_shaped, each, slope) for each in SHARES for slope in SLOPES],
    }


def _power(exponent: float, x: Array) -> Array:
    return np.asarray(x**-exponent)


def _exponential(share: float, x: Array) -> Array:
    return np.asarray(np.exp(-(x - 1) / share))


def _logarithm(x: Array) -> Array:
    return np.asarray(-np.log(x))


def _s_shaped(share: float, slope: float, x: Array) -> Array:
    return np.asarray(1 / (1 + (x / share) ** (1 / slope)))


FAMILIES = tuple(_families())
FROM_NOTHING = frozenset({"S-shaped"})


@dataclass(frozen=True)
class Saturation:
    """The best fitting curve, and what all curves that fit nearly as well foresee.

    Attributes
    ----------
    family : str
        Of the best fitting curve, one of `FAMILIES`.
    believed : tuple of str
        The families that fit nearly as well; the ranges hold what any of them foresees.
    low, middle, high : float
        Precision expected with as many pictures as were asked for: the lowest 5th percentile over
        refits of any family, what the best foresees, and the highest 95th.
    gain_low, gain_high : float
        The same of the gain over the greatest number of pictures measured.
    now : float
        The curve at the greatest number of pictures measured.
    top, fall, shape, most
        The best curve is ``top − fall · shape(pictures / most)``; see `at`.
    """

    family: str
    believed: tuple[str, ...]
    low: float
    middle: float
    high: float
    gain_low: float
    gain_high: float
    now: float
    top: float
    fall: float
    shape: Falling
    most: float

    def worth(self, gain: float) -> bool | None:
        """Whether so many pictures bring more than a gain; None where curves that fit disagree."""
        if self.gain_low > gain:
            return True
        return False if self.gain_high < gain else None

    def at(self, pictures: ArrayLike) -> Array:
        """The best curve at numbers of pictures."""
        share = np.asarray(pictures, dtype=np.float64) / self.most
        return np.clip(self.top - self.fall * self.shape(share), 0, 1)


def fit_saturation(
    pictures: Sequence[float], precision: Sequence[float], asked: float, generator: np.random.Generator
) -> Saturation:
    """Fit curves of four families by least squares, and foresee what all of them allow.

    An inverse power law, as learning curves mostly follow (Hestness et al., 2017), an exponential
    one, one that rises with the logarithm up to 1, and an S-shaped one: from four numbers of pictures
    they can rarely be told apart, but differ in what they foresee. So the range is not that of the
    best family but holds those of all that fit nearly as well. Each one's uncertainty comes from
    refits with deviations drawn anew (the parametric bootstrap), as large as those from the best
    curve or, where they are larger, among trainings with the same number of pictures; larger still
    where that rests on few of them.

    A rise that sets in only beyond the pictures there are cannot be foreseen from them.

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
    >>> fitted.family, round(float(fitted.at(160)), 2), fitted.low < 0.79 < fitted.high
    ('power', 0.79, True)
    """
    counts, y = np.asarray(pictures, dtype=np.float64), np.asarray(precision, dtype=np.float64)
    if counts.shape != y.shape:
        raise ValueError(f"{len(counts)} numbers of pictures do not go with {len(y)} precisions")
    if len(np.unique(counts)) < 3 or (counts <= 0).any():
        raise ValueError("a curve needs at least three different numbers of pictures, all above 0")
    x, ahead = counts / counts.max(), asked / counts.max()
    fits = {name: _Fit.of(shapes, x, y, name in FROM_NOTHING) for name, shapes in _families().items()}
    best = min(fits, key=lambda name: (round(fits[name].missed, 12), FAMILIES.index(name)))
    spread = _spread(x, y, fits[best].missed)
    believed = [name for name in fits if fits[name].missed <= fits[best].missed + STRAY * spread**2]
    ranges, gains = [], []
    for name in believed:
        drawn = np.clip(fits[name].curve + generator.normal(0, spread, (RESAMPLES, len(x))), 0, 1)
        then, now = fits[name].foreseen(drawn, ahead)
        ranges.append(np.percentile(then, (5, 95)))
        gains.append(np.percentile(then - now, (5, 95)))
    chosen = fits[best]
    middle = float(chosen.value(ahead))
    (low, high), (least, most) = (
        (min(each[0] for each in held), max(each[1] for each in held)) for held in (ranges, gains)
    )
    return Saturation(
        best, tuple(believed), min(float(low), middle), middle, max(float(high), middle),
        float(least), float(most), float(chosen.value(1.0)),
        chosen.top, chosen.fall, chosen.shape, float(counts.max()),
    )  # fmt: skip


def _spread(x: Array, y: Array, missed: float) -> float:
    """Deviation of one training from the curve, larger where it is itself little known."""
    groups = [y[x == each] for each in np.unique(x)]
    within = sum(float(((each - each.mean()) ** 2).sum()) for each in groups)
    among, about = len(y) - len(groups), max(1, len(y) - 3)
    found, freedom = float(np.sqrt(missed / about)), about
    if among >= 2 and within / among >= missed / about:
        found, freedom = float(np.sqrt(within / among)), among
    # With few degrees of freedom the deviation is taken too small as often as too large.
    wider = min(2.0, float(scipy.special.stdtrit(freedom, 0.95) / scipy.special.ndtri(0.95)))
    return max(LEAST_SPREAD, found) * wider


@dataclass(frozen=True)
class _Fit:
    """The best curve of one family."""

    shapes: list[Falling]
    x: Array
    from_nothing: bool
    top: float
    fall: float
    shape: Falling
    curve: Array
    missed: float

    @classmethod
    def of(cls, shapes: list[Falling], x: Array, y: Array, from_nothing: bool) -> "_Fit":
        top, fall, number = (each[0] for each in _solve(_values(shapes, x), y[None], from_nothing))
        shape = shapes[int(number)]
        curve = np.clip(top - fall * shape(x), 0, 1)
        return cls(
            shapes, x, from_nothing, float(top), float(fall), shape, curve, float(((y - curve) ** 2).sum())
        )

    def value(self, share: float) -> float:
        return float(np.clip(self.top - self.fall * self.shape(np.array(share)), 0, 1))

    def foreseen(self, drawn: Array, ahead: float) -> tuple[Array, Array]:
        """(R,) precision with so many pictures, and with the most measured, of each refit."""
        top, fall, number = _solve(_values(self.shapes, self.x), drawn, self.from_nothing)
        then, now = (_values(self.shapes, np.array([share]))[number, 0] for share in (ahead, 1.0))
        return np.clip(top - fall * then, 0, 1), np.clip(top - fall * now, 0, 1)


def _values(shapes: list[Falling], x: Array) -> Array:
    """(S, N) every shape at every share."""
    return np.stack([shape(x) for shape in shapes])


def _solve(shapes: Array, measured: Array, from_nothing: bool) -> tuple[Array, Array, np.ndarray]:
    """(R,) top, fall and number of the best shape for each row of measured precisions."""
    rows = np.arange(len(measured))
    if from_nothing:
        # Where the shape is 1 the curve is 0: top and fall are one.
        risen = 1 - shapes
        falls = np.clip(measured @ risen.T / np.maximum((risen**2).sum(axis=1), 1e-12), 0, 1)
        missed = ((measured[:, None] - falls[..., None] * risen) ** 2).sum(axis=-1)
        best = missed.argmin(axis=1)
        return falls[rows, best], falls[rows, best], best
    # With room = 1 − top, 1 − y = room + fall · shape: both not negative.
    wanted = 1 - measured
    count, once, squares = shapes.shape[1], shapes.sum(axis=1), (shapes**2).sum(axis=1)
    whole, product = wanted.sum(axis=1)[:, None], wanted @ shapes.T
    # Least squares in two unknowns that may not be negative: the free optimum, or the better of those on the edges.
    parted = np.maximum(count * squares - once**2, 1e-12)
    room, fall = (squares * whole - once * product) / parted, (count * product - once * whole) / parted
    free = (room >= 0) & (fall >= 0)
    level = np.broadcast_to(np.maximum(whole / count, 0), free.shape)
    rooms = np.stack([np.where(free, room, 0), level, 0 * room])
    falls = np.stack([np.where(free, fall, 0), 0 * fall, np.maximum(product / np.maximum(squares, 1e-12), 0)])
    left = wanted[:, None] - rooms[..., None] - falls[..., None] * shapes
    missed = (left**2).sum(axis=-1)
    way = missed.argmin(axis=0)[None]
    missed, rooms, falls = (np.take_along_axis(each, way, 0)[0] for each in (missed, rooms, falls))
    # Of shapes that fit alike the first.
    best = (missed <= missed.min(axis=1, keepdims=True) + 1e-12).argmax(axis=1)
    return 1 - rooms[rows, best], falls[rows, best], best
