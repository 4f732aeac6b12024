"""A frame as a clip holds it, of which pixels are made when they are asked for."""

from fractions import Fraction

import av
import numpy as np
from av.video.reformatter import Interpolation
from numpy.typing import NDArray

MOST_STRETCHED = 4
"""Pixels that are said to be wider or higher than that are taken for square: no camera has such."""


def square_size(width: int, height: int, aspect: Fraction | None) -> tuple[int, int]:
    """Width and height of a frame with square pixels: the side that is too short grows, and none shrinks.

    Examples
    --------
    >>> square_size(720, 576, Fraction(16, 11)), square_size(720, 480, Fraction(8, 9)), square_size(64, 48, None)
    ((1047, 576), (720, 540), (64, 48))
    """
    if not aspect or not Fraction(1, MOST_STRETCHED) <= aspect <= MOST_STRETCHED:
        return width, height
    return (round(width * aspect), height) if aspect >= 1 else (width, round(height / aspect))


class HeldFrame:
    """A decoded frame, upright.

    Parameters
    ----------
    frame : av.VideoFrame
        As it was decoded.
    stream : av.VideoStream
        That it comes from: where its pixels are wider than high, or higher than wide, the frame is stretched until they are
        square, as players show it.
    """

    def __init__(self, frame: av.VideoFrame, stream: av.VideoStream) -> None:
        self.frame = frame
        aspect = stream.sample_aspect_ratio or stream.codec_context.sample_aspect_ratio
        self._size = square_size(frame.width, frame.height, aspect)
        self._turns = round(frame.rotation / 90) % 4
        self._pixels: NDArray[np.uint8] | None = None

    @property
    def shape(self) -> tuple[int, int, int]:
        """Height, width and 3, as its pixels have it."""
        width, height = self._size
        return (width, height, 3) if self._turns % 2 else (height, width, 3)

    @property
    def pixels(self) -> NDArray[np.uint8]:
        """(H, W, 3), turned as the clip says that it is to be shown; made when they are first asked for."""
        if self._pixels is None:
            if self.is_square:
                plain = self.frame.to_ndarray(format="rgb24")
            else:
                width, height = self._size
                stretched = self.frame.reformat(width, height, "rgb24", interpolation=Interpolation.BILINEAR)
                plain = stretched.to_ndarray()
            self._pixels = self._upright(np.asarray(plain, dtype=np.uint8))
        return self._pixels

    @property
    def is_square(self) -> bool:
        """Whether its pixels are square as the clip holds them."""
        return self._size == (self.frame.width, self.frame.height)

    def _upright(self, pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
        return np.ascontiguousarray(np.rot90(pixels, self._turns)) if self._turns else pixels
