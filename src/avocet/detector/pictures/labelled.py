"""A picture with its truths."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array


@dataclass(frozen=True)
class LabelledPicture:
    """A picture with its truths, read when needed.

    Attributes
    ----------
    name : str
    width, height : int
        Original size in pixels.
    read : callable
        Returns the (H, W, 3) uint8 pixels.
    boxes : (N, 4) ndarray of float64
        In original pixels.
    classes : (N,) ndarray of int64
    ignored : (N,) ndarray of bool
    """

    name: str
    width: int
    height: int
    read: Callable[[], NDArray[np.uint8]]
    boxes: Array
    classes: NDArray[np.int64]
    ignored: NDArray[np.bool_]
