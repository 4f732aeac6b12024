"""A frame as a clip holds it, of which only what is wanted is made: its pixels, or a smaller picture of it."""

import av
import numpy as np
from av.video.reformatter import Interpolation
from numpy.typing import NDArray


class HeldFrame:
    """A decoded frame, upright.

    To make red, green and blue of all its pixels, only to scale them down for a network, takes five times as long as to
    scale it as it is.

    Parameters
    ----------
    frame : av.VideoFrame
        As it was decoded.
    """

    def __init__(self, frame: av.VideoFrame) -> None:
        self.frame = frame
        self._turns = round(frame.rotation / 90) % 4
        self._pixels: NDArray[np.uint8] | None = None

    @property
    def shape(self) -> tuple[int, int, int]:
        """Height, width and 3, as its pixels have it."""
        height, width = self.frame.height, self.frame.width
        return (width, height, 3) if self._turns % 2 else (height, width, 3)

    @property
    def pixels(self) -> NDArray[np.uint8]:
        """(H, W, 3), turned as the clip says that it is to be shown; made when they are first asked for."""
        if self._pixels is None:
            self._pixels = self._upright(np.asarray(self.frame.to_ndarray(format="rgb24"), dtype=np.uint8))
        return self._pixels

    def scaled(self, width: int, height: int) -> NDArray[np.uint8]:
        """Scaled by a triangle filter as wide as what falls into one pixel, (height, width, 3)."""
        if (height, width) == self.shape[:2]:
            return self.pixels
        across, down = (height, width) if self._turns % 2 else (width, height)
        small = self.frame.reformat(across, down, format="rgb24", interpolation=Interpolation.BILINEAR)
        return self._upright(np.asarray(small.to_ndarray(), dtype=np.uint8))

    def _upright(self, pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
        return np.ascontiguousarray(np.rot90(pixels, self._turns)) if self._turns else pixels
