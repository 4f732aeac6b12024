"""What is in a picture, and what a detector says is in it."""

from dataclasses import dataclass, field
from typing import overload

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array, area, finite_boxes

SCORE_DIGITS = 4
"""Behind the point of a score that is told or recorded."""


@dataclass(frozen=True)
class PictureTruth:
    """What is really in one picture.

    Attributes
    ----------
    boxes : (G, 4) ndarray of float64
    classes : (G,) ndarray of int64
    ignored, crowd : (G,) ndarray of bool
    areas : (G,) ndarray of float64
        In square pixels, by which an object is small or large: that of its outline where a file gives
        it, as COCO has it; else, also where it is NaN, that of the box.
    """

    boxes: Array
    classes: NDArray[np.int64]
    ignored: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, bool))
    crowd: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, bool))
    areas: Array = field(default_factory=lambda: np.zeros(0))

    def __post_init__(self) -> None:
        object.__setattr__(self, "boxes", finite_boxes(self.boxes))
        object.__setattr__(self, "classes", np.asarray(self.classes, np.int64).reshape(-1))
        for name in ("ignored", "crowd"):
            flags = np.asarray(getattr(self, name), bool).reshape(-1)
            object.__setattr__(self, name, flags if len(flags) else np.zeros(len(self.boxes), bool))
        own = area(self.boxes)
        told = np.asarray(self.areas, np.float64).reshape(-1)
        told = told if len(told) else np.full(len(own), np.nan)
        if len(told) != len(own):
            raise ValueError("boxes and areas of a picture differ in number")
        object.__setattr__(self, "areas", np.where(np.isnan(told), own, told))
        if not len(self.boxes) == len(self.classes) == len(self.ignored) == len(self.crowd):
            raise ValueError("boxes, classes and flags of a picture differ in number")


@dataclass(frozen=True)
class PictureDetections:
    """What a detector says is in one picture.

    Attributes
    ----------
    boxes : (D, 4) ndarray of float64
    scores : (D,) ndarray of float64
    classes : (D,) ndarray of int64
    """

    boxes: Array
    scores: Array
    classes: NDArray[np.int64]

    def __post_init__(self) -> None:
        object.__setattr__(self, "boxes", finite_boxes(self.boxes))
        object.__setattr__(self, "scores", np.asarray(self.scores, np.float64).reshape(-1))
        object.__setattr__(self, "classes", np.asarray(self.classes, np.int64).reshape(-1))
        if not len(self.boxes) == len(self.scores) == len(self.classes):
            raise ValueError("boxes, scores and classes of a picture differ in number")
        if np.isnan(self.scores).any():
            raise ValueError("a score is not a number")


@overload
def told_score(score: float) -> float: ...
@overload
def told_score(score: Array) -> Array: ...
def told_score(score: float | Array) -> float | Array:
    """A score as it is told and recorded: to four digits, and never more than it is.

    Rounded up, a box would seem to reach a minimum score that it does not. Minimum scores of models are told so as well: what
    reaches one of four digits is the same before and after.

    Parameters
    ----------
    score : float or ndarray of float64

    Returns
    -------
    float or ndarray of float64

    Examples
    --------
    >>> told_score(0.58896), told_score(0.589), told_score(np.array([0.99999, 1.0])).tolist()
    (0.5889, 0.589, [0.9999, 1.0])
    """
    exact = np.asarray(score, dtype=np.float64)
    near = np.round(exact, SCORE_DIGITS)
    told = np.where(near > exact, np.round(near - 10.0**-SCORE_DIGITS, SCORE_DIGITS), near)
    return told if told.ndim else float(told)
