"""Regions that a person draws: polygons, and which points lie inside."""

import numpy as np
from numpy.typing import ArrayLike, NDArray


def inside(points: ArrayLike, polygon: ArrayLike) -> NDArray[np.bool_]:
    """Which points lie inside of a polygon, by the number of edges to the right of each (Shimrat, 1962).

    Parameters
    ----------
    points : (N, 2) array_like
        x and y, in the units of the polygon.
    polygon : (V, 2) array_like
        Corners in order; the last is joined to the first.

    Returns
    -------
    (N,) ndarray of bool
        Points on an edge may be either.

    Raises
    ------
    ValueError
        If the polygon has fewer than three corners.

    Examples
    --------
    >>> inside([[1, 1], [3, 1]], [[0, 0], [2, 0], [2, 2], [0, 2]])
    array([ True, False])
    """
    given = np.asarray(points, dtype=np.float64).reshape(-1, 2)
    corners = np.asarray(polygon, dtype=np.float64).reshape(-1, 2)
    if len(corners) < 3:
        raise ValueError(f"a region needs three corners or more, not {len(corners)}")
    following = np.roll(corners, -1, axis=0)
    x, y = given[:, :1], given[:, 1:]
    across = (corners[:, 1] > y) != (following[:, 1] > y)
    rise = following[:, 1] - corners[:, 1]
    # An edge that lies level is never crossed; its division is of no matter.
    where = corners[:, 0] + (y - corners[:, 1]) / np.where(rise == 0, 1, rise) * (
        following[:, 0] - corners[:, 0]
    )
    return np.asarray((across & (x < where)).sum(axis=1) % 2 == 1)
