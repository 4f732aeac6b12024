"""Anchors: typical widths and heights, clustered from the boxes of a snapshot."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, co_centred_iou

MANY_SIZES = 8_000
"""From so many boxes on, boxes of nearly the same size are clustered as one, with its weight."""

SAME_SIZE = 0.02
"""Sizes that differ by less than this share are taken for one where sizes have to be made up."""

STEPS_PER_DOUBLING = 24
"""How finely sizes are told apart then: to 2.9 %."""

FIRST_STEP, LAST_STEP = 0.1, 0.005
"""Anchors are moved by steps of so much of their size, halved where none is better, until the last."""

ASIDE = ((1, 0), (-1, 0), (0, 1), (0, -1))
"""Ways to step: wider, narrower, higher, lower."""


def cluster_anchors(
    sizes: ArrayLike, count: int, generator: np.random.Generator, restarts: int = 5, rounds: int = 100
) -> Array:
    """Cluster box sizes into anchors by k-means under the distance 1 − IoU of co-centred boxes.

    Starts are chosen as in k-means++ (Arthur and Vassilvitskii, 2007); the distance is that of
    Redmon and Farhadi (2017). A cluster's centre is the width and height of the highest mean IoU
    with its members, searched from their mean and their medians: the mean, which that paper takes,
    belongs to another distance and can make a round worse. Of all restarts the one with the highest
    mean best IoU is returned. With fewer distinct sizes than anchors, the sizes found are spread by
    factors around themselves.

    Parameters
    ----------
    sizes : (N, 2) array_like
        Widths and heights in network-input pixels, all above 0.
    count : int
        How many anchors.
    generator : numpy.random.Generator
        Source of the random starts; the same state gives the same anchors.
    restarts : int
        How many starts to try.
    rounds : int
        Most rounds of one start.

    Returns
    -------
    (count, 2) ndarray of float64
        Widths and heights, ordered by area.

    Raises
    ------
    ValueError
        If there is no size, a size is not positive, or ``count`` is below 1.

    Examples
    --------
    >>> sizes = [[10, 10], [10, 10], [11, 10], [40, 20], [42, 20], [42, 20]]
    >>> cluster_anchors(sizes, 2, np.random.default_rng(0))
    array([[10., 10.],
           [42., 20.]])
    """
    array = np.asarray(sizes, dtype=np.float64).reshape(-1, 2)
    if count < 1:
        raise ValueError(f"the number of anchors must be at least 1, not {count}")
    if len(array) == 0:
        raise ValueError("anchors need at least one box to be clustered from")
    if not (np.isfinite(array).all() and (array > 0).all()):
        raise ValueError("box sizes must be finite and above 0")
    array, weights = _weighted(array)
    distinct = np.unique(array, axis=0)
    if len(distinct) < count:
        array = _spread(distinct, count)
        weights = np.ones(len(array))
    best, best_score = array[:count], -1.0
    for _ in range(restarts):
        anchors = _one_start(array, weights, count, generator, rounds)
        score = float(np.average(co_centred_iou(array, anchors).max(axis=1), weights=weights))
        if score > best_score:
            best, best_score = anchors, score
    order = np.lexsort((best[:, 0], best.prod(axis=1)))
    return best[order]


def anchor_curve(
    sizes: ArrayLike, counts: Sequence[int], generator: np.random.Generator, restarts: int = 3
) -> list[float]:
    """Mean best IoU of clustered anchors for several numbers of anchors.

    More anchors can only fit better; where a start was unlucky, the value of fewer anchors is
    kept, so that the curve never falls.

    Parameters
    ----------
    sizes : (N, 2) array_like
        Widths and heights in network-input pixels, all above 0.
    counts : sequence of int
        Numbers of anchors, rising.
    generator : numpy.random.Generator
    restarts : int

    Returns
    -------
    list of float
        One a count.

    Raises
    ------
    ValueError
        As `cluster_anchors`.

    Examples
    --------
    >>> curve = anchor_curve([[10, 10], [10, 10], [40, 20]], (1, 2), np.random.default_rng(0))
    >>> [round(value, 3) for value in curve]
    [0.708, 1.0]
    """
    curve: list[float] = []
    for count in counts:
        score = mean_best_iou(sizes, cluster_anchors(sizes, count, generator, restarts))
        curve.append(max(score, *curve[-1:]) if curve else score)
    return curve


def mean_best_iou(sizes: ArrayLike, anchors: ArrayLike) -> float:
    """Mean, over all boxes, of the co-centred IoU with the best anchor.

    Parameters
    ----------
    sizes : (N, 2) array_like
        Widths and heights.
    anchors : (K, 2) array_like

    Returns
    -------
    float
        Between 0 and 1.

    Examples
    --------
    >>> mean_best_iou([[10, 10], [10, 5]], [[10, 10]])
    0.75
    """
    return float(co_centred_iou(sizes, anchors).max(axis=1).mean())


def share_poorly_fitted(sizes: ArrayLike, anchors: ArrayLike, enough: float = 0.5) -> float:
    """Share of boxes whose co-centred IoU with their best anchor is below ``enough``.

    Parameters
    ----------
    sizes : (N, 2) array_like
    anchors : (K, 2) array_like
    enough : float

    Returns
    -------
    float
        0 to 1; 0 without a box.

    Examples
    --------
    >>> share_poorly_fitted([[10, 10], [40, 40]], [[10, 10]])
    0.5
    """
    best = co_centred_iou(sizes, anchors).max(axis=1)
    return float((best < enough).mean()) if len(best) else 0.0


def _weighted(sizes: Array) -> tuple[Array, Array]:
    """Sizes with weights: one each, or where there are many, one for all of nearly the same size."""
    if len(sizes) < MANY_SIZES:
        return sizes, np.ones(len(sizes))
    cells = np.round(np.log2(sizes) * STEPS_PER_DOUBLING).astype(np.int64)
    cells -= cells.min(axis=0)
    keys, member = np.unique(cells[:, 0] * (cells[:, 1].max() + 1) + cells[:, 1], return_inverse=True)
    weights = np.bincount(member, minlength=len(keys)).astype(np.float64)
    means = [np.bincount(member, weights=sizes[:, axis]) / weights for axis in range(2)]
    return np.stack(means, axis=1), weights


def _one_start(
    sizes: Array, weights: Array, count: int, generator: np.random.Generator, rounds: int
) -> Array:
    """Anchors of one start. No round makes them worse: every anchor moves only to what serves its boxes better."""
    anchors = _spaced_starts(sizes, weights, count, generator)
    step = np.full(count, FIRST_STEP)
    members = np.full(len(sizes), -1)
    for _ in range(rounds):
        nearest = co_centred_iou(sizes, anchors).argmax(axis=1)
        settled = (nearest == members).all()
        if settled and (step < LAST_STEP).all():
            break
        members = nearest
        tried = _tried(sizes, weights, members, anchors, step)
        served = np.stack(
            [np.bincount(members, weights * _fit(sizes, each[members]), minlength=count) for each in tried]
        )
        # The first is where the anchor is; what is not better by more than rounding is no reason to move.
        served[0] += 1e-12 * np.abs(served[0])
        best = served.argmax(axis=0)
        anchors = tried[best, np.arange(count)]
        step = np.where(best == 0, step / 2, step)
    return anchors


def _tried(sizes: Array, weights: Array, members: NDArray[np.int64], anchors: Array, step: Array) -> Array:
    """(C, count, 2) places for each anchor: where it is, the mean and the medians of its boxes, and steps aside."""
    count = len(anchors)
    held = np.bincount(members, weights, minlength=count)[:, None]
    total = np.stack([np.bincount(members, weights * sizes[:, axis], minlength=count) for axis in (0, 1)], 1)
    # An anchor that lost all its boxes stays where it is.
    mean = np.where(held > 0, total / np.maximum(held, 1e-300), anchors)
    median = anchors.copy()
    for axis in (0, 1):
        order = np.lexsort((sizes[:, axis], members))
        passed = np.cumsum(weights[order])
        starts = np.searchsorted(members[order], np.arange(count))
        before = np.concatenate([[0.0], passed])[starts]
        middle = np.minimum(np.searchsorted(passed, before + held[:, 0] / 2), len(order) - 1)
        median[:, axis] = np.where(held[:, 0] > 0, sizes[order[middle], axis], anchors[:, axis])
    factors = np.exp(step)[:, None] ** np.array(ASIDE)[:, None, :]
    return np.concatenate([[anchors, mean, median], anchors * factors])


def _fit(sizes: Array, anchors: Array) -> Array:
    """(N,) co-centred IoU of each size with the anchor beside it."""
    shared = np.minimum(sizes, anchors).prod(axis=1)
    iou: Array = shared / (sizes.prod(axis=1) + anchors.prod(axis=1) - shared)
    return iou


def _spaced_starts(sizes: Array, weights: Array, count: int, generator: np.random.Generator) -> Array:
    chosen = [sizes[generator.choice(len(sizes), p=weights / weights.sum())]]
    distance = 1 - co_centred_iou(sizes, chosen[0][None])[:, 0]
    for _ in range(1, count):
        chances = weights * distance**2
        total = chances.sum()
        index = (
            generator.choice(len(sizes), p=chances / total) if total > 0 else generator.integers(len(sizes))
        )
        chosen.append(sizes[index])
        distance = np.minimum(distance, 1 - co_centred_iou(sizes, chosen[-1][None])[:, 0])
    return np.array(chosen)


def _spread(distinct: Array, count: int) -> Array:
    """More sizes around the few there are, by 0.75, 1.35, 0.56, 1.82 and so on, none of them twice."""
    made = [*distinct]
    power = 1
    while len(made) < count:
        for factor in (0.75**power, 1.35**power):
            for size in distinct * factor:
                if all(np.abs(size / each - 1).max() > SAME_SIZE for each in made):
                    made.append(size)
        power += 1
    return np.array(made)
