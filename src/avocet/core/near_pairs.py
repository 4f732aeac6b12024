"""Pairs of boxes that overlap by more than a limit, without comparing every box with every other."""

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array, area

SWEEP_LIMIT = 0.2
"""Below this IoU boxes of very different size can pair up, and a sweep along x is quicker."""

FEW_COMPARISONS = 400_000
"""A sweep with no more comparisons than this is quicker than sorting boxes by size."""

CHUNK = 2_000_000
"""Comparisons held in memory at a time."""

Pairs = tuple[NDArray[np.int64], NDArray[np.int64], Array]


def pairs_above(boxes: Array, labels: NDArray[np.int64], limit: float) -> Pairs:
    """All pairs of boxes of one label whose IoU is above a limit.

    Where boxes are many, they are grouped by area: an IoU above ``limit`` means areas within a
    factor of 1 / limit, and centres no farther apart along x than (1 − limit) of the wider box,
    along y than that of the higher one. So only neighbouring groups are compared, and in them
    only neighbouring cells of a grid.

    Parameters
    ----------
    boxes : (N, 4) ndarray of float64
        ``[x1, y1, x2, y2]``.
    labels : (N,) ndarray of int64
    limit : float
        0 to 1.

    Returns
    -------
    first, second : (P,) ndarray of int64
        Indices, the smaller first.
    overlap : (P,) ndarray of float64

    Examples
    --------
    >>> boxes = np.array([[0.0, 0, 10, 10], [0, 0, 10, 9], [0, 0, 10, 8]])
    >>> pairs_above(boxes, np.array([1, 1, 2]), 0.5)
    (array([0]), array([1]), array([0.9]))
    """
    kinds = _numbered(labels)
    counts, by_start = _sweep(boxes, kinds, limit)
    if limit < SWEEP_LIMIT or counts.sum() <= FEW_COMPARISONS:
        candidates = _swept(counts, by_start)
    else:
        candidates = _neighbours(boxes, kinds, limit)
    # Columns by themselves are gathered from twice as fast as from rows.
    columns, areas = np.ascontiguousarray(boxes.T), area(boxes)
    found = [_overlapping(columns, areas, kinds, a, b, limit) for a, b in candidates]
    if not found:
        return np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0)
    first, second, overlap = (np.concatenate(column) for column in zip(*found, strict=True))
    return np.minimum(first, second), np.maximum(first, second), overlap


def _numbered(labels: NDArray[np.int64]) -> NDArray[np.int64]:
    """Labels as small whole numbers from 0."""
    if len(labels) and labels.dtype.kind in "iu" and labels.min() >= 0 and labels.max() <= len(labels):
        return labels
    _, kinds = np.unique(labels, return_inverse=True)
    return np.asarray(kinds)


def _overlapping(
    columns: Array,
    areas: Array,
    kinds: NDArray[np.int64],
    a: NDArray[np.int64],
    b: NDArray[np.int64],
    limit: float,
) -> Pairs:
    """Those of the pairs that are of one kind and overlap by more than the limit; columns are x1, y1, x2, y2."""
    x1, y1, x2, y2 = columns
    height = np.minimum(y2[a], y2[b])
    height -= np.maximum(y1[a], y1[b])
    near = np.flatnonzero(height > 0)
    a, b, height = a[near], b[near], height[near]
    shared = np.minimum(x2[a], x2[b])
    shared -= np.maximum(x1[a], x1[b])
    np.maximum(shared, 0, out=shared)
    shared *= height
    both = areas[a] + areas[b]
    # A little less than the limit asks for, so that rounding loses no pair before the exact test.
    near = np.flatnonzero(shared > (limit / (1 + limit) * (1 - 1e-9)) * both)
    a, b, shared, both = a[near], b[near], shared[near], both[near]
    union = both - shared
    overlap = np.divide(shared, union, out=np.zeros_like(shared), where=union > 0)
    near = np.flatnonzero((overlap > limit) & (kinds[a] == kinds[b]))
    return a[near], b[near], overlap[near]


def _sweep(
    boxes: Array, kinds: NDArray[np.int64], limit: float
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """How many boxes each box meets when sweeping along x, and the boxes in order of their start."""
    if not len(boxes):
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    # Moving each label to its own stretch of the x axis keeps labels apart in one sweep.
    span = boxes[:, 2].max() - boxes[:, 0].min() + 1.0
    start = boxes[:, 0] + kinds * span
    # An IoU above the limit covers more than that share of a box's width: one that starts later
    # than the rest of it is too late. A hair more, so that rounding loses no pair.
    end = start + (boxes[:, 2] - boxes[:, 0]) * min(1.0, 1 - limit + 1e-9) + 1e-9 * span
    by_start = np.argsort(start)
    last = np.searchsorted(start[by_start], end[by_start], side="left")
    return np.maximum(last - np.arange(len(boxes)) - 1, 0), by_start


def _swept(
    counts: NDArray[np.int64], by_start: NDArray[np.int64]
) -> Iterator[tuple[NDArray[np.int64], NDArray[np.int64]]]:
    begin, cumulative = 0, np.cumsum(counts)
    while begin < len(counts):
        base = cumulative[begin - 1] if begin else 0
        stop = max(int(np.searchsorted(cumulative, base + CHUNK, side="right")), begin + 1)
        first, step = _expanded(counts[begin:stop])
        first += begin
        yield by_start[first], by_start[first + 1 + step]
        begin = stop


def _neighbours(
    boxes: Array, kinds: NDArray[np.int64], limit: float
) -> Iterator[tuple[NDArray[np.int64], NDArray[np.int64]]]:
    sides = boxes[:, 2:] - boxes[:, :2]
    centres = (boxes[:, :2] + boxes[:, 2:]) / 2
    usable = np.flatnonzero((sides > 0).all(axis=1))
    octave = (
        np.floor(np.log(sides[usable].prod(axis=1)) / np.log(1 / limit))
        if limit < 1
        else np.zeros(len(usable))
    )
    groups = {int(each): usable[octave == each] for each in np.unique(octave)}
    for number, mine in groups.items():
        for theirs in (mine, groups.get(number + 1)):
            if theirs is None:
                continue
            both = np.concatenate([mine, theirs])
            # A hair more than is needed, so that rounding loses no pair.
            reach = (1 - limit) * sides[both].max(axis=0) * (1 + 1e-9) + 1e-12
            yield from _in_cells(centres, kinds, mine, theirs, reach)


def _in_cells(
    centres: Array, kinds: NDArray[np.int64], mine: NDArray[np.int64], theirs: NDArray[np.int64], reach: Array
) -> Iterator[tuple[NDArray[np.int64], NDArray[np.int64]]]:
    """Pairs in the same or neighbouring cells of a grid whose cells are as large as centres may lie apart."""
    same = mine is theirs
    both = mine if same else np.concatenate([mine, theirs])
    cells = np.floor(centres[both] / reach)
    columns, rows = np.ptp(cells, axis=0) + 3
    # Very small boxes far apart would make more cells than numbers; then they are told apart by sorting.
    if columns * rows * (kinds.max() + 1) > 2**62:
        cells = np.stack([_closed_up(axis) for axis in cells.T], axis=1)
        columns, rows = np.ptp(cells, axis=0) + 3
    x, y = (cells - cells.min(axis=0)).astype(np.int64).T
    keys = (kinds[both] * int(rows) + y + 1) * int(columns) + x + 1
    # In order of their keys, so that neighbours are looked up, and gathered, near one another.
    sort = np.argsort(keys[: len(mine)])
    ordered_mine, my_keys = mine[sort], keys[: len(mine)][sort]
    if same:
        ordered, their_keys = ordered_mine, my_keys
    else:
        sort = np.argsort(keys[len(mine) :])
        ordered, their_keys = theirs[sort], keys[len(mine) :][sort]
    for down in (0, 1) if same else (-1, 0, 1):
        wanted = my_keys + down * int(columns)
        if same and down == 0:
            # Only those after a box itself: each pair once.
            start = np.arange(1, len(mine) + 1)
        else:
            start = np.searchsorted(their_keys, wanted - 1, side="left")
        counts = np.searchsorted(their_keys, wanted + 1, side="right") - start
        for begin in range(0, len(mine), 1 << 16):
            part = slice(begin, begin + (1 << 16))
            first, step = _expanded(counts[part])
            yield ordered_mine[part][first], ordered[start[part][first] + step]


def _closed_up(cells: Array) -> Array:
    """Cell numbers with wide gaps made narrow: neighbours stay neighbours, others stay apart."""
    used, place = np.unique(cells, return_inverse=True)
    steps = np.minimum(np.diff(used), 2)
    return np.asarray(np.concatenate([[0.0], np.cumsum(steps)])[place])


def _expanded(counts: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """For counts such as 2, 0, 3: the owners 0, 0, 2, 2, 2 and the steps 0, 1, 0, 1, 2."""
    first = np.repeat(np.arange(len(counts)), counts)
    ends = np.cumsum(counts)
    return first, np.arange(len(first)) - np.repeat(ends - counts, counts)
