"""Levels: which of them answers for which sizes, and the anchors that each gets."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array
from avocet.core.raw.anchors import cluster_anchors

CELLS_ACROSS = 2.0
"""The shorter side of what a level answers for is at least so many of its cells.

With fewer, a cell whose middle lies between two objects sees half of each, and claims an object there. With
more, large objects are answered by small cells, of which a dozen see nothing but their inside.
"""

LEAST_SHARE = 0.05
"""A level with a smaller share of all boxes is not used; its few boxes go to the nearest one that is."""


def levels_of(sizes: ArrayLike, strides: Sequence[int]) -> NDArray[np.int64]:
    """The level that answers for each size: the coarsest whose cells are small enough for it.

    Parameters
    ----------
    sizes : (N, 2) array_like
        Widths and heights in network-input pixels.
    strides : sequence of int
        Input pixels for one cell, fine to coarse.

    Returns
    -------
    (N,) ndarray of int64
        Sizes that are too small for every level belong to the finest.

    Examples
    --------
    >>> levels_of([[12, 40], [16, 16], [40, 33], [200, 64]], (8, 16, 32))
    array([0, 0, 1, 2])
    """
    shorter = np.asarray(sizes, dtype=np.float64).reshape(-1, 2).min(axis=1)
    coarser = np.asarray(strides[1:], dtype=np.float64) * CELLS_ACROSS
    return np.asarray(np.searchsorted(coarser, shorter, side="right"), dtype=np.int64)


def levels_in_use(sizes: ArrayLike, strides: Sequence[int]) -> NDArray[np.int64]:
    """The level that answers for each size, where levels with next to no boxes are not used.

    Parameters
    ----------
    sizes : (N, 2) array_like
        Widths and heights in network-input pixels.
    strides : sequence of int

    Returns
    -------
    (N,) ndarray of int64
        As `levels_of`, but a size whose level is not used belongs to the nearest that is, and of two as
        near ones to the finer. The level with the most sizes is always used.

    Examples
    --------
    >>> levels_in_use([[12, 12]] * 30 + [[40, 40]] * 30 + [[70, 70]], (8, 16, 32)).tolist()[-1]
    1
    """
    level = levels_of(sizes, strides)
    held = np.bincount(level, minlength=len(strides))
    used = np.flatnonzero((held >= LEAST_SHARE * len(level)) | (held == held.max()))
    distance = np.abs(np.arange(len(strides))[:, None] - used[None, :])
    return np.asarray(used[distance.argmin(axis=1)][level], dtype=np.int64)


def cluster_by_level(
    sizes: ArrayLike,
    strides: Sequence[int],
    per_level: int,
    generator: np.random.Generator,
    restarts: int = 5,
) -> list[Array]:
    """Anchors of every level, clustered from the sizes that it answers for.

    Parameters
    ----------
    sizes : (N, 2) array_like
        Widths and heights in network-input pixels, all above 0.
    strides : sequence of int
        Input pixels for one cell, fine to coarse.
    per_level : int
        Anchors of a level that is used.
    generator : numpy.random.Generator
    restarts : int
        As `avocet.core.raw.anchors.cluster_anchors`.

    Returns
    -------
    list of (A, 2) ndarray of float64
        One a level, ordered by area; A is ``per_level``, or 0 where the level is not used.

    Raises
    ------
    ValueError
        As `avocet.core.raw.anchors.cluster_anchors`.

    Examples
    --------
    >>> anchors = cluster_by_level([[20, 18], [40, 38], [44, 36]], (8, 16, 32), 1, np.random.default_rng(0))
    >>> [each.tolist() for each in anchors]
    [[[20.0, 18.0]], [[44.0, 36.0]], []]
    """
    array = np.asarray(sizes, dtype=np.float64).reshape(-1, 2)
    if not len(array):
        raise ValueError("anchors need at least one box to be clustered from")
    level = levels_in_use(array, strides)
    return [
        cluster_anchors(array[level == number], per_level, generator, restarts)
        if (level == number).any()
        else np.zeros((0, 2))
        for number in range(len(strides))
    ]
