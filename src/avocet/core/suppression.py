"""Non-maximum suppression that says, for every dropped box, which box dropped it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, area, as_boxes


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

    Candidates are paired by sweeping along x, so that only boxes which share a column are ever
    compared; the greedy order is then resolved on that sparse list of overlapping pairs.

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
        If lengths differ, a score is NaN, or the limit is outside 0 to 1.

    Examples
    --------
    >>> boxes = [[0, 0, 10, 10], [0, 0, 10, 9], [20, 0, 30, 10]]
    >>> result = suppress(boxes, [0.8, 0.9, 0.7], overlap_limit=0.5)
    >>> result.kept, result.suppressor, result.overlap
    (array([1, 2]), array([ 1, -1, -1]), array([0.9, 0. , 0. ]))
    """
    array, values = as_boxes(boxes), np.asarray(scores, dtype=np.float64).reshape(-1)
    labels = np.zeros(len(array), dtype=np.int64) if classes is None else np.asarray(classes).reshape(-1)
    if not len(array) == len(values) == len(labels):
        raise ValueError(f"{len(array)} boxes, {len(values)} scores and {len(labels)} classes do not match")
    if np.isnan(values).any():
        raise ValueError(f"score {int(np.isnan(values).argmax())} is not a number")
    if not 0 <= overlap_limit <= 1:
        raise ValueError(f"the overlap limit must lie between 0 and 1, not {overlap_limit}")

    order = np.argsort(-values, kind="stable")
    ranked, ranked_labels = array[order], labels[order]
    better, worse, overlap_of_pair = _overlapping_pairs(ranked, ranked_labels, overlap_limit)

    suppressor = np.full(len(array), -1, dtype=np.int64)
    overlap = np.zeros(len(array))
    # Pairs are sorted by the better box's rank, so when a box's turn comes its own fate is final.
    starts = np.searchsorted(better, np.arange(len(array) + 1))
    by_rank = np.full(len(array), -1, dtype=np.int64)
    for rank in np.unique(better):
        if by_rank[rank] >= 0:
            continue
        part = slice(starts[rank], starts[rank + 1])
        targets = worse[part]
        fresh = by_rank[targets] < 0
        by_rank[targets[fresh]] = rank
        overlap[order[targets[fresh]]] = overlap_of_pair[part][fresh]
    dropped = by_rank >= 0
    suppressor[order[dropped]] = order[by_rank[dropped]]
    return Suppressed(kept=order[~dropped], suppressor=suppressor, overlap=overlap)


def _overlapping_pairs(
    ranked: Array, labels: NDArray[np.int64], overlap_limit: float, chunk: int = 2_000_000
) -> tuple[NDArray[np.int64], NDArray[np.int64], Array]:
    """All pairs (better rank, worse rank, IoU) above the limit, sorted by the better, then the worse."""
    # Moving each class to its own stretch of the x axis keeps classes apart in one sweep.
    _, label_index = np.unique(labels, return_inverse=True)
    left_edge, right_edge = ranked[:, 0], ranked[:, 2]
    span = (right_edge.max() - left_edge.min() + 1.0) if len(ranked) else 1.0
    start = left_edge + label_index * span
    end = right_edge + label_index * span
    by_start = np.argsort(start, kind="stable")
    # Box i meets, in start order, the boxes that start before it ends.
    last = np.searchsorted(start[by_start], end[by_start], side="left")
    counts = np.maximum(last - np.arange(len(ranked)) - 1, 0)
    areas = area(ranked)
    found: list[tuple[NDArray[np.int64], NDArray[np.int64], Array]] = []
    begin = 0
    cumulative = np.cumsum(counts)
    while begin < len(ranked):
        base = cumulative[begin - 1] if begin else 0
        stop = max(int(np.searchsorted(cumulative, base + chunk, side="right")), begin + 1)
        part = counts[begin:stop]
        first = np.repeat(np.arange(begin, stop), part)
        second = first + 1 + np.arange(part.sum()) - np.repeat(np.cumsum(part) - part, part)
        a, b = by_start[first], by_start[second]
        height = np.minimum(ranked[a, 3], ranked[b, 3]) - np.maximum(ranked[a, 1], ranked[b, 1])
        a, b, height = a[height > 0], b[height > 0], height[height > 0]
        width = np.minimum(ranked[a, 2], ranked[b, 2]) - np.maximum(ranked[a, 0], ranked[b, 0])
        shared = np.maximum(width, 0) * height
        union = areas[a] + areas[b] - shared
        overlap = np.divide(shared, union, out=np.zeros_like(shared), where=union > 0)
        near = (overlap > overlap_limit) & (labels[a] == labels[b])
        found.append((np.minimum(a, b)[near], np.maximum(a, b)[near], overlap[near]))
        begin = stop
    if not found:
        return np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0)
    better, worse, overlaps = (np.concatenate(column) for column in zip(*found, strict=True))
    sort = np.lexsort((worse, better))
    return better[sort], worse[sort], overlaps[sort]
