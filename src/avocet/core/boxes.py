"""Boxes: conversions between conventions, areas and overlaps."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]


def as_boxes(boxes: ArrayLike) -> Array:
    """Return boxes as a float64 array of shape (N, 4).

    Parameters
    ----------
    boxes : array_like
        Any sequence of N boxes of four numbers; an empty one is allowed.

    Returns
    -------
    (N, 4) ndarray of float64

    Raises
    ------
    ValueError
        If the boxes do not have four numbers each.

    Examples
    --------
    >>> as_boxes([]).shape
    (0, 4)
    """
    array = np.asarray(boxes, dtype=np.float64)
    if array.size == 0:
        return np.zeros((0, 4))
    if array.ndim != 2 or array.shape[1] != 4:
        raise ValueError(f"boxes must have shape (N, 4), not {array.shape}")
    return array


def finite_boxes(boxes: ArrayLike) -> Array:
    """The same as `as_boxes`, and refuse boxes with a corner that is no finite number.

    One such box among many would make every comparison with it false, and the others slip through.

    Parameters
    ----------
    boxes : (N, 4) array_like

    Returns
    -------
    (N, 4) ndarray of float64

    Raises
    ------
    ValueError
        If a corner is NaN or infinite; the message names the first such box.

    Examples
    --------
    >>> finite_boxes([[0, 0, 1, 1], [0, 0, float("nan"), 1]])
    Traceback (most recent call last):
    ...
    ValueError: box 1 has a corner that is no finite number: [0.0, 0.0, nan, 1.0]
    """
    array = as_boxes(boxes)
    good = np.isfinite(array).all(axis=1)
    if not good.all():
        first = int(good.argmin())
        raise ValueError(f"box {first} has a corner that is no finite number: {array[first].tolist()}")
    return array


def from_corner_size(boxes: ArrayLike) -> Array:
    """Convert ``[x, y, width, height]`` (top-left corner and size) to ``[x1, y1, x2, y2]``.

    Parameters
    ----------
    boxes : (N, 4) array_like

    Returns
    -------
    (N, 4) ndarray of float64

    Examples
    --------
    >>> from_corner_size([[10, 20, 5, 4]])
    array([[10., 20., 15., 24.]])
    """
    array = as_boxes(boxes)
    return np.concatenate([array[:, :2], array[:, :2] + array[:, 2:]], axis=1)


def to_corner_size(boxes: ArrayLike) -> Array:
    """Convert ``[x1, y1, x2, y2]`` to ``[x, y, width, height]``.

    Parameters
    ----------
    boxes : (N, 4) array_like

    Returns
    -------
    (N, 4) ndarray of float64

    Examples
    --------
    >>> to_corner_size([[10, 20, 15, 24]])
    array([[10., 20.,  5.,  4.]])
    """
    array = as_boxes(boxes)
    return np.concatenate([array[:, :2], array[:, 2:] - array[:, :2]], axis=1)


def from_centre_size(boxes: ArrayLike) -> Array:
    """Convert ``[centre x, centre y, width, height]`` to ``[x1, y1, x2, y2]``.

    Parameters
    ----------
    boxes : (N, 4) array_like

    Returns
    -------
    (N, 4) ndarray of float64

    Examples
    --------
    >>> from_centre_size([[12.5, 22, 5, 4]])
    array([[10., 20., 15., 24.]])
    """
    array = as_boxes(boxes)
    half = array[:, 2:] / 2
    return np.concatenate([array[:, :2] - half, array[:, :2] + half], axis=1)


def to_centre_size(boxes: ArrayLike) -> Array:
    """Convert ``[x1, y1, x2, y2]`` to ``[centre x, centre y, width, height]``.

    Parameters
    ----------
    boxes : (N, 4) array_like

    Returns
    -------
    (N, 4) ndarray of float64

    Examples
    --------
    >>> to_centre_size([[10, 20, 15, 24]])
    array([[12.5, 22. ,  5. ,  4. ]])
    """
    array = as_boxes(boxes)
    return np.concatenate([(array[:, :2] + array[:, 2:]) / 2, array[:, 2:] - array[:, :2]], axis=1)


def area(boxes: ArrayLike) -> Array:
    """Area of each box in square pixels; a box turned inside out has none.

    Parameters
    ----------
    boxes : (N, 4) array_like
        Boxes as ``[x1, y1, x2, y2]``.

    Returns
    -------
    (N,) ndarray of float64

    Examples
    --------
    >>> area([[0, 0, 3, 2], [5, 5, 4, 9]])
    array([6., 0.])
    """
    array = as_boxes(boxes)
    return np.asarray(np.prod(np.maximum(array[:, 2:] - array[:, :2], 0), axis=1))


def clip(boxes: ArrayLike, width: float, height: float) -> Array:
    """Cut boxes to a picture of ``width`` by ``height`` pixels.

    Parameters
    ----------
    boxes : (N, 4) array_like
    width, height : float
        Size of the picture in pixels.

    Returns
    -------
    (N, 4) ndarray of float64

    Examples
    --------
    >>> clip([[-3, 5, 20, 8]], 10, 10)
    array([[ 0.,  5., 10.,  8.]])
    """
    limit = np.array([width, height, width, height], dtype=np.float64)
    return np.clip(as_boxes(boxes), 0, limit)


def intersection(first: ArrayLike, second: ArrayLike) -> Array:
    """Area shared by every box of ``first`` with every box of ``second``.

    Parameters
    ----------
    first : (N, 4) array_like
    second : (M, 4) array_like

    Returns
    -------
    (N, M) ndarray of float64
        Square pixels.

    Examples
    --------
    >>> intersection([[0, 0, 4, 4]], [[2, 2, 6, 6], [4, 0, 5, 4]])
    array([[4., 0.]])
    """
    a, b = as_boxes(first)[:, None], as_boxes(second)[None]
    width = np.minimum(a[..., 2], b[..., 2]) - np.maximum(a[..., 0], b[..., 0])
    height = np.minimum(a[..., 3], b[..., 3]) - np.maximum(a[..., 1], b[..., 1])
    overlap: Array = np.maximum(width, 0) * np.maximum(height, 0)
    return overlap


def iou(first: ArrayLike, second: ArrayLike, crowd: ArrayLike | None = None) -> Array:
    """Intersection over union of every box of ``first`` with every box of ``second``.

    Two boxes without area have an IoU of 0.

    Parameters
    ----------
    first : (N, 4) array_like
    second : (M, 4) array_like
    crowd : (M,) array_like of bool, optional
        Where true, the box of ``second`` marks a crowd, and the shared area is divided by the
        area of the box of ``first`` alone, as in the COCO evaluation rules.

    Returns
    -------
    (N, M) ndarray of float64
        Between 0 and 1.

    Examples
    --------
    >>> iou([[0, 0, 4, 4]], [[2, 0, 6, 4], [0, 0, 8, 8]])
    array([[0.33333333, 0.25      ]])
    >>> iou([[0, 0, 4, 4]], [[0, 0, 8, 8]], crowd=[True])
    array([[1.]])
    """
    shared = intersection(first, second)
    own, other = area(first)[:, None], area(second)[None]
    union = own + other - shared
    if crowd is not None:
        union = np.where(np.asarray(crowd, dtype=bool)[None], own, union)
    return np.divide(shared, union, out=np.zeros_like(shared), where=union > 0)


def iou_of_pairs(first: ArrayLike, second: ArrayLike) -> Array:
    """Intersection over union of each box with the one at its place in the other list.

    Parameters
    ----------
    first, second : (N, 4) array_like

    Returns
    -------
    (N,) ndarray of float64
        0 where both boxes have no area.

    Examples
    --------
    >>> iou_of_pairs([[0, 0, 10, 10], [0, 0, 1, 1]], [[5, 0, 15, 10], [2, 2, 3, 3]]).round(3).tolist()
    [0.333, 0.0]
    """
    ours, theirs = as_boxes(first), as_boxes(second)
    sides = np.minimum(ours[:, 2:], theirs[:, 2:]) - np.maximum(ours[:, :2], theirs[:, :2])
    both = sides.clip(0).prod(axis=1)
    either = area(ours) + area(theirs) - both
    return np.asarray(np.divide(both, either, out=np.zeros(len(ours)), where=either > 0))


def co_centred_iou(first: ArrayLike, second: ArrayLike) -> Array:
    """IoU of boxes laid on one centre, from their widths and heights alone.

    Parameters
    ----------
    first : (N, 2) array_like
        Widths and heights, all above 0.
    second : (M, 2) array_like

    Returns
    -------
    (N, M) ndarray of float64

    Examples
    --------
    >>> co_centred_iou([[10, 10]], [[5, 20], [10, 10]])
    array([[0.33333333, 1.        ]])
    """
    a = np.asarray(first, dtype=np.float64).reshape(-1, 1, 2)
    b = np.asarray(second, dtype=np.float64).reshape(1, -1, 2)
    # Written out, for a product along an axis of two is slow.
    shared = np.minimum(a[..., 0], b[..., 0]) * np.minimum(a[..., 1], b[..., 1])
    return np.asarray(shared / (a[..., 0] * a[..., 1] + b[..., 0] * b[..., 1] - shared))
