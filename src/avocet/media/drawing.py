"""Annotated copies: boxes, labels and scores drawn over a picture."""

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray
from PIL import Image, ImageDraw, ImageFont

from avocet.core.boxes import as_boxes

PAPER, INK = (248, 245, 236), (21, 24, 27)


def draw_boxes(
    pixels: NDArray[np.uint8], boxes: ArrayLike, captions: Sequence[str], colours: Sequence[str]
) -> NDArray[np.uint8]:
    """Draw boxes with a caption each.

    Line width and text grow with the picture, so that copies read well at any size.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
    boxes : (N, 4) array_like
        ``[x1, y1, x2, y2]`` in pixels of the picture.
    captions : sequence of str
    colours : sequence of str
        ``#rrggbb`` for each box.

    Returns
    -------
    (H, W, 3) ndarray of uint8
        A copy; the input is left as it was.
    """
    picture = Image.fromarray(pixels)
    if len(captions):
        draw = ImageDraw.Draw(picture)
        longest = max(pixels.shape[:2])
        line, font = max(2, round(longest / 400)), _font(max(11, round(longest / 64)))
        for box, caption, colour in zip(as_boxes(boxes), captions, colours, strict=True):
            x1, y1, x2, y2 = (float(value) for value in box)
            draw.rectangle([x1, y1, max(x1, x2 - 1), max(y1, y2 - 1)], outline=colour, width=line)
            left, top, right, bottom = draw.textbbox((0, 0), caption, font=font)
            height, width = bottom - top + 4, right - left + 6
            place = max(0.0, y1 - height)
            x = min(x1, max(0.0, pixels.shape[1] - width))
            draw.rectangle([x, place, x + width, place + height], fill=colour)
            draw.text((x + 3 - left, place + 2 - top), caption, font=font, fill=_readable_on(colour))
    return np.asarray(picture)


@lru_cache(maxsize=8)
def _font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    return ImageFont.load_default(size)


def _readable_on(colour: str) -> tuple[int, int, int]:
    red, green, blue = (int(colour[start : start + 2], 16) for start in (1, 3, 5))
    return INK if 0.299 * red + 0.587 * green + 0.114 * blue > 140 else PAPER
