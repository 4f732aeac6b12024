"""What may be wrong with labelled boxes: plain rules over arrays."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import as_boxes
from avocet.core.near_pairs import pairs_above

LEAST_SIDE = 4.0
"""Boxes with a shorter side are under suspicion, in pixels."""

SAME_OBJECT = 0.9
"""Two boxes that overlap by more than this IoU are taken to mean one object."""

FAR = 4.0
"""How many robust standard deviations a shape may be from its class."""

ENOUGH = 8
"""Boxes that a class needs before its usual shape can be told."""


def outside(boxes: ArrayLike, width: ArrayLike, height: ArrayLike) -> NDArray[np.bool_]:
    """Boxes that reach beyond a picture of ``width`` by ``height`` pixels, the same for all or one each.

    Examples
    --------
    >>> outside([[0, 0, 9, 9], [5, 5, 12, 9]], 10, 10).tolist()
    [False, True]
    """
    array = as_boxes(boxes)
    wide, high = np.asarray(width, np.float64), np.asarray(height, np.float64)
    return np.asarray((array[:, :2] < 0).any(axis=1) | (array[:, 2] > wide) | (array[:, 3] > high))


def tiny(boxes: ArrayLike, least: float = LEAST_SIDE) -> NDArray[np.bool_]:
    """Boxes with a side under ``least`` pixels.

    Examples
    --------
    >>> tiny([[0, 0, 3, 9], [0, 0, 4, 9]]).tolist()
    [True, False]
    """
    array = as_boxes(boxes)
    return np.asarray((array[:, 2:] - array[:, :2]).min(axis=1, initial=np.inf) < least)


def doubled(
    boxes: ArrayLike, owner: ArrayLike | None = None, limit: float = SAME_OBJECT
) -> list[tuple[int, int, float]]:
    """Pairs of boxes in one picture that lie on one object.

    Parameters
    ----------
    boxes : (N, 4) array_like
    owner : (N,) array_like of int, optional
        The picture of each box; by default all lie in one.
    limit : float
        IoU above which two boxes mean one object.

    Returns
    -------
    list of (first, second, iou)
        In the order of the boxes.

    Examples
    --------
    >>> boxes = [[0, 0, 100, 100], [0, 0, 100, 99], [0, 0, 50, 50]]
    >>> doubled(boxes), doubled(boxes, [0, 1, 1])
    ([(0, 1, 0.99)], [])
    """
    array = as_boxes(boxes)
    pictures = np.zeros(len(array), np.int64) if owner is None else np.asarray(owner, np.int64)
    first, second, overlap = pairs_above(array, pictures, limit)
    rank = np.lexsort((second, first))
    columns = (first[rank], second[rank], overlap[rank].round(4))
    return [(int(i), int(j), float(value)) for i, j, value in zip(*columns, strict=True)]


def odd_shapes(boxes: ArrayLike, classes: ArrayLike, far: float = FAR) -> NDArray[np.float64]:
    """How far each box's aspect is from that of its class.

    The logarithm of width over height is measured against the median of the class, in median
    absolute deviations scaled to standard deviations (Hampel's identifier), which a few wrong
    boxes do not move. Classes with fewer than eight boxes have no usual shape.

    Parameters
    ----------
    boxes : (N, 4) array_like
    classes : (N,) array_like of int
    far : float
        Smaller deviations are given as 0.

    Returns
    -------
    (N,) ndarray of float64
        Deviation, or 0.

    Examples
    --------
    >>> boxes = [[0, 0, 10, 10 + i % 3] for i in range(12)] + [[0, 0, 90, 10]]
    >>> np.flatnonzero(odd_shapes(boxes, [0] * 13)).tolist()
    [12]
    """
    array, labels = as_boxes(boxes), np.asarray(classes, dtype=np.int64).reshape(-1)
    result = np.zeros(len(array))
    sides = np.maximum(array[:, 2:] - array[:, :2], 1e-9)
    aspect = np.log(sides[:, 0] / sides[:, 1])
    for label in np.unique(labels):
        own = labels == label
        if own.sum() < ENOUGH:
            continue
        middle = np.median(aspect[own])
        # Below a tenth nobody sees a difference of shape, however alike the others are.
        spread = max(1.4826 * float(np.median(np.abs(aspect[own] - middle))), 0.1)
        result[own] = np.abs(aspect[own] - middle) / spread
    return np.where(result > far, result, 0.0)
