"""The ways of suppression that a person can choose between, as one."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array
from avocet.core.raw.soft_suppression import SIGMA, soften
from avocet.core.raw.suppression import suppress

Method = Literal["by class", "across classes", "linear", "gaussian"]
METHODS: tuple[Method, ...] = ("by class", "across classes", "linear", "gaussian")


@dataclass(frozen=True)
class Thinned:
    """What a way of suppression left.

    Attributes
    ----------
    kept : (K,) ndarray of int64
        Indices of the kept boxes, best score first.
    scores : (N,) ndarray of float64
        After suppression; lower than before only where it is soft.
    suppressor : (N,) ndarray of int64
        The box that dropped a box or took most of its score, or -1.
    overlap : (N,) ndarray of float64
        IoU with that box.
    """

    kept: NDArray[np.int64]
    scores: Array
    suppressor: NDArray[np.int64]
    overlap: Array


def is_soft(method: Method) -> bool:
    """Whether a way lowers scores instead of dropping boxes."""
    return method in ("linear", "gaussian")


def thin_out(
    boxes: ArrayLike,
    scores: ArrayLike,
    classes: ArrayLike,
    method: Method,
    overlap_limit: float,
    least: ArrayLike = 0.0,
    sigma: float = SIGMA,
) -> Thinned:
    """Suppress duplicates in one of the ways.

    Parameters
    ----------
    boxes : (N, 4) array_like
        ``[x1, y1, x2, y2]`` in pixels.
    scores : (N,) array_like
    classes : (N,) array_like of int
    method : {'by class', 'across classes', 'linear', 'gaussian'}
        Greedy suppression of each class for itself or of all together, or soft suppression of each class.
    overlap_limit : float
        IoU above which the worse box goes, or at which the linear form begins to lower it.
    least : float or (N,) array_like
        What soft suppression lowers under it is not kept.
    sigma : float
        Width of the Gaussian.

    Returns
    -------
    Thinned

    Raises
    ------
    ValueError
        If the method is unknown, or as `suppress` and `soften`.

    Examples
    --------
    >>> boxes = [[0, 0, 10, 10], [0, 0, 10, 9], [20, 0, 30, 10]]
    >>> [thin_out(boxes, [0.9, 0.8, 0.7], [0, 1, 0], each, 0.5).kept.tolist() for each in METHODS[:2]]
    [[0, 1, 2], [0, 2]]
    >>> thin_out(boxes, [0.9, 0.8, 0.7], [0, 0, 0], "linear", 0.5, least=0.1).kept
    array([0, 2])
    """
    if method not in METHODS:
        raise ValueError(f"unknown suppression {method!r}; there are {', '.join(METHODS)}")
    if method == "by class" or method == "across classes":
        made = suppress(boxes, scores, overlap_limit, classes if method == "by class" else None)
        return Thinned(made.kept, np.array(scores, dtype=np.float64), made.suppressor, made.overlap)
    soft = soften(boxes, scores, method, overlap_limit, sigma, classes)
    enough = soft.scores >= np.asarray(least, dtype=np.float64)
    return Thinned(soft.order[enough[soft.order]], soft.scores, soft.lowered_by, soft.overlap)
