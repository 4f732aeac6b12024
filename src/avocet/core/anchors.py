"""Anchors: typical widths and heights, clustered from the boxes of a snapshot."""

import numpy as np
from numpy.typing import ArrayLike

from avocet.core.boxes import Array, co_centred_iou


def cluster_anchors(
    sizes: ArrayLike, count: int, generator: np.random.Generator, restarts: int = 5, rounds: int = 100
) -> Array:
    """Cluster box sizes into anchors by k-means under the distance 1 − IoU of co-centred boxes.

    Starts are chosen as in k-means++ (Arthur and Vassilvitskii, 2007); the distance is that of
    Redmon and Farhadi (2017). A cluster's centre is the mean width and height of its members;
    of all restarts the one with the highest mean best IoU is returned. With fewer distinct
    sizes than anchors, the sizes found are spread by factors around themselves.

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
    >>> sizes = [[10, 10], [11, 10], [40, 20], [42, 20]]
    >>> cluster_anchors(sizes, 2, np.random.default_rng(0))
    array([[10.5, 10. ],
           [41. , 20. ]])
    """
    array = np.asarray(sizes, dtype=np.float64).reshape(-1, 2)
    if count < 1:
        raise ValueError(f"the number of anchors must be at least 1, not {count}")
    if len(array) == 0:
        raise ValueError("anchors need at least one box to be clustered from")
    if not (np.isfinite(array).all() and (array > 0).all()):
        raise ValueError("box sizes must be finite and above 0")
    distinct = np.unique(array, axis=0)
    if len(distinct) < count:
        array = _spread(distinct, count)
    best, best_score = array[:count], -1.0
    for _ in range(restarts):
        anchors = _one_start(array, count, generator, rounds)
        score = mean_best_iou(array, anchors)
        if score > best_score:
            best, best_score = anchors, score
    order = np.lexsort((best[:, 0], best.prod(axis=1)))
    return best[order]


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


def _one_start(sizes: Array, count: int, generator: np.random.Generator, rounds: int) -> Array:
    anchors = _spaced_starts(sizes, count, generator)
    members = np.full(len(sizes), -1)
    for _ in range(rounds):
        nearest = co_centred_iou(sizes, anchors).argmax(axis=1)
        if (nearest == members).all():
            break
        members = nearest
        held = np.bincount(members, minlength=count)
        for axis in range(2):
            total = np.bincount(members, weights=sizes[:, axis], minlength=count)
            # An anchor that lost all its boxes stays where it is rather than becoming 0 wide.
            anchors[:, axis] = np.where(held > 0, total / np.maximum(held, 1), anchors[:, axis])
    return anchors


def _spaced_starts(sizes: Array, count: int, generator: np.random.Generator) -> Array:
    chosen = [sizes[generator.integers(len(sizes))]]
    distance = 1 - co_centred_iou(sizes, chosen[0][None])[:, 0]
    for _ in range(1, count):
        weights = distance**2
        total = weights.sum()
        index = (
            generator.choice(len(sizes), p=weights / total) if total > 0 else generator.integers(len(sizes))
        )
        chosen.append(sizes[index])
        distance = np.minimum(distance, 1 - co_centred_iou(sizes, chosen[-1][None])[:, 0])
    return np.array(chosen)


def _spread(distinct: Array, count: int) -> Array:
    """More sizes around the few there are: by 0.75, 1.35, 0.56, 1.82 and so on."""
    steps = [1.0]
    while len(steps) * len(distinct) < count:
        power = (len(steps) + 1) // 2
        steps.append(0.75**power if len(steps) % 2 else 1.35**power)
    return np.concatenate([distinct * step for step in steps])
