"""A frame as a clip holds it, of which pixels are made when they are asked for."""

import av
import numpy as np
from numpy.typing import NDArray


class HeldFrame:
    """A decoded frame, upright.

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

    def _upright(self, pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
        return np.ascontiguousarray(np.rot90(pixels, self._turns)) if self._turns else pixels
