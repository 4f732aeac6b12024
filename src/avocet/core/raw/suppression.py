"""Non-maximum suppression that says, for every dropped box, which box dropped it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, finite_boxes
from avocet.core.near_pairs import pairs_above


@dataclass(frozen=True)
class Suppressed:
    """What greedy suppression kept, and the fate of the rest.

    Attributes
    ----------
    kept : (K,) ndarray of int64
        Indices of the kept boxes, best score first.
    suppressor : (N,) ndarray of int64
        For each box the index of the kept box that dropped it, or -1 where it was kept.
    overlap : (N,) ndarray of float64
        IoU with that kept box, 0 where kept.
    """

    kept: NDArray[np.int64]
    suppressor: NDArray[np.int64]
    overlap: Array


def suppress(
    boxes: ArrayLike, scores: ArrayLike, overlap_limit: float, classes: ArrayLike | None = None
) -> Suppressed:
    """Greedy non-maximum suppression.

    The best box is kept and drops every remaining box whose IoU with it is above
    ``overlap_limit``; then the best of those left, and so on. Boxes of equal score are taken in
    their order in the input. A dropped box is credited to the best-scored kept box that
    overlaps it enough.

    Only boxes that can overlap enough are ever compared (`avocet.core.near_pairs`); the greedy
    order is then resolved on that sparse list of pairs, many boxes at a time: in each round every
    box is kept whose better neighbours are all dropped, and all that it overlaps are dropped.

    Parameters
    ----------
    boxes : (N, 4) array_like
        ``[x1, y1, x2, y2]`` in pixels.
    scores : (N,) array_like
    overlap_limit : float
        IoU above which the worse box is dropped, from 0 to 1.
    classes : (N,) array_like of int, optional
        Only boxes of one class drop each other. Without it suppression is class-agnostic.

    Returns
    -------
    Suppressed

    Raises
    ------
    ValueError
        If lengths differ, a score is NaN, a corner is not finite, or the limit is outside 0 to 1.

    Examples
    --------
    >>> boxes = [[0, 0, 10, 10], [0, 0, 10, 9], [20, 0, 30, 10]]
    >>> result = suppress(boxes, [0.8, 0.9, 0.7], overlap_limit=0.5)
    >>> result.kept, result.suppressor, result.overlap
    (array([1, 2]), array([ 1, -1, -1]), array([0.9, 0. , 0. ]))
    """
    array, values = finite_boxes(boxes), np.asarray(scores, dtype=np.float64).reshape(-1)
    labels = np.zeros(len(array), dtype=np.int64) if classes is None else np.asarray(classes).reshape(-1)
    if not len(array) == len(values) == len(labels):
        raise ValueError(f"{len(array)} boxes, {len(values)} scores and {len(labels)} classes do not match")
    if np.isnan(values).any():
        raise ValueError(f"score {int(np.isnan(values).argmax())} is not a number")
    if not 0 <= overlap_limit <= 1:
        raise ValueError(f"the overlap limit must lie between 0 and 1, not {overlap_limit}")

    order = _best_first(values)
    better, worse, overlap_of_pair = pairs_above(array[order], labels[order], overlap_limit)
    dropped = _resolve(better, worse, len(array))
    # The best-scored kept box that overlaps it enough is credited: the first of its kept pairs.
    credited = ~dropped[better]
    better, worse, overlap_of_pair = better[credited], worse[credited], overlap_of_pair[credited]
    first = np.lexsort((better, worse))
    first = first[np.concatenate([[True], worse[first][1:] != worse[first][:-1]])] if len(first) else first
    suppressor = np.full(len(array), -1, dtype=np.int64)
    overlap = np.zeros(len(array))
    suppressor[order[worse[first]]] = order[better[first]]
    overlap[order[worse[first]]] = overlap_of_pair[first]
    return Suppressed(kept=order[~dropped], suppressor=suppressor, overlap=overlap)


def _best_first(scores: Array) -> NDArray[np.int64]:
    """Order by falling score; equal scores keep their order. A stable sort is slow and seldom needed."""
    order = np.argsort(-scores)
    ordered = scores[order]
    return np.argsort(-scores, kind="stable") if (ordered[1:] == ordered[:-1]).any() else order


def _resolve(better: NDArray[np.int64], worse: NDArray[np.int64], count: int) -> NDArray[np.bool_]:
    """Which ranks are dropped, from all pairs (better rank, worse rank) that overlap too much."""
    dropped = np.zeros(count, dtype=bool)
    while len(better):
        # A box with no better neighbour left is kept; whom it overlaps is dropped.
        challenged = np.zeros(count, dtype=bool)
        challenged[worse] = True
        kept = ~challenged[better]
        dropped[worse[kept]] = True
        left = ~(kept | dropped[better] | dropped[worse])
        better, worse = better[left], worse[left]
    return dropped
