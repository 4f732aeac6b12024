"""Frames as clips hold them: brightness in full size, and two planes of colour in half of it.

What is drawn on and packed so is never turned into red, green and blue and back: that would take as long as packing, and
cost the picture some of its colour.
"""

from dataclasses import dataclass

import av
import numpy as np
from av.video.reformatter import ColorRange, Colorspace
from numpy.typing import NDArray

KIND = "yuv420p"
"""FFmpeg's name for how nearly every clip holds its frames."""

FULL_KIND = "yuvj420p"
"""The same with values from 0 to 255."""

BT_601, BT_709 = (0.299, 0.114), (0.2126, 0.0722)
"""What red and blue give to brightness: ITU-R BT.601 (also where nothing is said) and BT.709."""


@dataclass(frozen=True)
class Planes:
    """A frame in planes, its own copy.

    Attributes
    ----------
    data : (H * 3 / 2, W) ndarray of uint8
        Brightness, below it both colours, row after row.
    colorspace, color_range : int
        FFmpeg's numbers for what the values mean.
    """

    data: NDArray[np.uint8]
    colorspace: int
    color_range: int

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width in pixels."""
        return self.data.shape[0] * 2 // 3, self.data.shape[1]

    def brightness(self) -> NDArray[np.uint8]:
        """(H, W), to be drawn on."""
        return self.data[: self.shape[0]]

    def colours(self) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
        """Blue's and red's difference to brightness, (H / 2, W / 2) each, to be drawn on."""
        height, width = self.shape
        blue, red = self.data[height:].reshape(2, height // 2, width // 2)
        return blue, red

    @property
    def meaning(self) -> tuple[tuple[float, float], bool]:
        """What red and blue give to brightness, and whether values go from 0 to 255."""
        shares = BT_709 if self.colorspace == Colorspace.ITU709 else BT_601
        return shares, self.color_range == ColorRange.JPEG


def planes_of(frame: av.VideoFrame) -> Planes | None:
    """A copy of a decoded frame in its planes; None where it has others, is to be turned, or has an odd size."""
    if frame.format.name not in (KIND, FULL_KIND) or round(frame.rotation) % 360:
        return None
    if frame.width % 2 or frame.height % 2:
        return None
    data = np.asarray(frame.to_ndarray(), dtype=np.uint8)
    full = frame.format.name == FULL_KIND
    return Planes(data, int(frame.colorspace), int(ColorRange.JPEG if full else frame.color_range))


def in_planes(paint: NDArray[np.uint8], shares: tuple[float, float], full: bool) -> NDArray[np.uint8]:
    """Red, green and blue as brightness and the differences of blue and red to it.

    Parameters
    ----------
    paint : (..., 3) ndarray of uint8
    shares : (float, float)
        What red and blue give to brightness.
    full : bool
        Whether values go from 0 to 255; else brightness lies between 16 and 235, and colour between 16 and 240.

    Returns
    -------
    (..., 3) ndarray of uint8

    References
    ----------
    Recommendations ITU-R BT.601-7 and BT.709-6.

    Examples
    --------
    >>> in_planes(np.array([[255, 255, 255], [255, 0, 0]], np.uint8), BT_601, full=False).tolist()
    [[235, 128, 128], [81, 90, 240]]
    """
    red, blue = shares
    values = paint.astype(np.float64) / 255
    bright = values @ [red, 1 - red - blue, blue]
    of_blue = (values[..., 2] - bright) / (2 - 2 * blue)
    of_red = (values[..., 0] - bright) / (2 - 2 * red)
    least, bright_range, colour_range = (0, 255, 255) if full else (16, 219, 224)
    made = np.stack(
        [least + bright_range * bright, 128 + colour_range * of_blue, 128 + colour_range * of_red], -1
    )
    return np.clip(np.round(made), 0, 255).astype(np.uint8)
