"""Laying the pixels of a picture into the network's input."""

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from avocet.core.raw.letterbox import Letterbox

PADDING = 114
"""Grey value around the picture."""


def lay_in(pixels: NDArray[np.uint8], box: Letterbox) -> NDArray[np.uint8]:
    """Scale a picture and pad it as its `Letterbox` says.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
    box : Letterbox
        From `avocet.core.raw.letterbox.letterbox`.

    Returns
    -------
    (input height, input width, 3) ndarray of uint8

    Examples
    --------
    >>> from avocet.core.raw.letterbox import letterbox
    >>> lay_in(np.zeros((540, 960, 3), np.uint8), letterbox(960, 540, 416))[:, 0, 0].max()
    np.uint8(114)
    """
    canvas = np.full((box.input_height, box.input_width, 3), PADDING, dtype=np.uint8)
    scaled = scale_to(pixels, box.width, box.height)
    canvas[box.top : box.top + box.height, box.left : box.left + box.width] = scaled
    return canvas


def scale_to(pixels: NDArray[np.uint8], width: int, height: int) -> NDArray[np.uint8]:
    """Scale a picture by area-weighted bilinear filtering."""
    if pixels.shape[1] == width and pixels.shape[0] == height:
        return pixels
    picture = Image.fromarray(pixels)
    return np.asarray(picture.resize((width, height), Image.Resampling.BILINEAR, reducing_gap=3.0))
