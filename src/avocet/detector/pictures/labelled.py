"""A picture with its truths."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.core.detections import PictureTruth


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
    truth : PictureTruth
        In original pixels.
    white : float, optional
        Of a picture of more than 8 bits, the value that is read as white.
    """

    name: str
    width: int
    height: int
    read: Callable[[], NDArray[np.uint8]]
    truth: PictureTruth
    white: float | None = None

    @property
    def boxes(self) -> Array:
        """(N, 4) corners in original pixels."""
        return self.truth.boxes

    @property
    def classes(self) -> NDArray[np.int64]:
        """(N,) classes."""
        return self.truth.classes

    @property
    def ignored(self) -> NDArray[np.bool_]:
        """(N,) boxes in which nothing is learnt: those marked to be ignored, and crowds."""
        return self.truth.ignored | self.truth.crowd
