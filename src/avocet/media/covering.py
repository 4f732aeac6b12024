"""Covered copies: what was found is made unrecognisable, so that a picture can be shown to anyone."""

from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from PIL import Image, ImageFilter

from avocet.core.boxes import as_boxes

Cover = Literal["blurred", "pixelated", "filled"]

BLOCKS = 6
"""Blocks along the longer side of a box that is pixelated: too few to tell who or what it is."""

FILL = (128, 128, 128)


def cover_boxes(pixels: NDArray[np.uint8], boxes: ArrayLike, how: Cover) -> NDArray[np.uint8]:
    """Cover boxes.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
    boxes : (N, 4) array_like
        ``[x1, y1, x2, y2]`` in pixels of the picture; every pixel that a box touches is covered.
    how : {'blurred', 'pixelated', 'filled'}
        Blurred and pixelated keep the colours, filled keeps nothing.

    Returns
    -------
    (H, W, 3) ndarray of uint8
        A copy; the input is left as it was.

    Examples
    --------
    >>> picture = np.arange(300, dtype=np.uint8).reshape(10, 10, 3)
    >>> covered = cover_boxes(picture, [[2.5, 0, 4, 10]], "filled")
    >>> covered[0, :6, 0].tolist()
    [0, 3, 128, 128, 12, 15]
    """
    made = np.array(pixels)
    height, width = made.shape[:2]
    corners = as_boxes(boxes)
    low, high = np.floor(corners[:, :2]).astype(int), np.ceil(corners[:, 2:]).astype(int)
    for (x1, y1), (x2, y2) in zip(low.clip(0), high.clip(0, [width, height]), strict=True):
        if x2 > x1 and y2 > y1:
            made[y1:y2, x1:x2] = _covered(made[y1:y2, x1:x2], how)
    return made


def _covered(part: NDArray[np.uint8], how: Cover) -> NDArray[np.uint8] | tuple[int, int, int]:
    if how == "filled":
        return FILL
    picture, longest = Image.fromarray(part), max(part.shape[:2])
    block = max(1.0, longest / BLOCKS)
    if how == "blurred":
        return np.asarray(picture.filter(ImageFilter.GaussianBlur(block)))
    small = picture.resize(
        (max(1, round(picture.width / block)), max(1, round(picture.height / block))), Image.Resampling.BOX
    )
    return np.asarray(small.resize(picture.size, Image.Resampling.NEAREST))
