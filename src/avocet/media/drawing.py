"""Annotated copies: boxes, labels and scores drawn over a picture."""

import math
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
    made = np.array(pixels)
    if not len(captions):
        return made
    longest = max(pixels.shape[:2])
    line, size = max(2, round(longest / 400)), max(11, round(longest / 64))
    for box, caption, colour in zip(as_boxes(boxes), captions, colours, strict=True):
        x1, y1, x2, y2 = (round(float(value)) for value in box)
        _frame(made, (x1, y1, max(x1 + 1, x2), max(y1 + 1, y2)), line, colour)
        label = _label(caption, colour, size)
        high, wide = label.shape[:2]
        left, top = max(0, min(x1, pixels.shape[1] - wide)), max(0, y1 - high)
        place = made[top : top + high, left : left + wide]
        place[:] = label[: place.shape[0], : place.shape[1]]
    return made


def _frame(pixels: NDArray[np.uint8], box: tuple[int, int, int, int], line: int, colour: str) -> None:
    """Four bars along the inside of a box, as far as they lie in the picture."""
    x1, y1, x2, y2 = box
    paint = _rgb_of(colour)
    for left, top, right, bottom in (
        (x1, y1, x2, y1 + line), (x1, y2 - line, x2, y2), (x1, y1, x1 + line, y2), (x2 - line, y1, x2, y2),
    ):  # fmt: skip
        pixels[max(0, top) : max(0, bottom), max(0, left) : max(0, right)] = paint


@lru_cache(maxsize=4096)
def _label(caption: str, colour: str, size: int) -> NDArray[np.uint8]:
    """A caption on its colour. The same come again and again, and writing one takes longer than laying it in."""
    font = _font(size)
    left, top, right, bottom = ImageDraw.Draw(Image.new("RGB", (1, 1))).textbbox((0, 0), caption, font=font)
    width, height = max(1, math.ceil(right - left) + 6), max(1, math.ceil(bottom - top) + 4)
    label = Image.new("RGB", (width, height), _rgb_of(colour))
    ImageDraw.Draw(label).text((3 - left, 2 - top), caption, font=font, fill=_readable_on(colour))
    return np.asarray(label)


@lru_cache(maxsize=8)
def _font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    return ImageFont.load_default(size)


def _readable_on(colour: str) -> tuple[int, int, int]:
    red, green, blue = _rgb_of(colour)
    return INK if 0.299 * red + 0.587 * green + 0.114 * blue > 140 else PAPER


def _rgb_of(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)
