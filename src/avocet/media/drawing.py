"""Annotated copies: boxes, labels and scores drawn over a picture."""

import math
from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray
from PIL import Image, ImageDraw, ImageFont

from avocet.core.boxes import as_boxes
from avocet.media.planes import Planes, in_planes

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
    for left, top, right, bottom, paint in _marks(pixels.shape[1], pixels.shape[0], boxes, captions, colours):
        made[top:bottom, left:right] = _in_rgb(paint)[: bottom - top, : right - left]
    return made


def draw_on_planes(planes: Planes, boxes: ArrayLike, captions: Sequence[str], colours: Sequence[str]) -> None:
    """The same on a frame as its clip holds it, in place.

    Colours are kept for two by two pixels there: at odd corners a line's colour goes a pixel beyond it.

    Parameters
    ----------
    planes : Planes
    boxes : (N, 4) array_like
        ``[x1, y1, x2, y2]`` in pixels of the frame.
    captions, colours : sequence of str
        As for `draw_boxes`.
    """
    height, width = planes.shape
    brightness, colour_planes = planes.brightness(), planes.colours()
    for left, top, right, bottom, paint in _marks(width, height, boxes, captions, colours):
        whole, *halves = _in_planes(paint, planes.meaning, left % 2, top % 2)
        brightness[top:bottom, left:right] = whole[: bottom - top, : right - left]
        top, bottom, left, right = top // 2, (bottom + 1) // 2, left // 2, (right + 1) // 2
        for plane, half in zip(colour_planes, halves, strict=True):
            plane[top:bottom, left:right] = half[: bottom - top, : right - left]


class _Paint(NamedTuple):
    """A colour, or a word on it."""

    colour: str
    word: str = ""
    size: int = 0


def _marks(
    width: int, height: int, boxes: ArrayLike, captions: Sequence[str], colours: Sequence[str]
) -> Iterator[tuple[int, int, int, int, _Paint]]:
    """What is laid into a picture, one over the other: rectangles, first corner and second, and what is in them."""
    if not len(captions):
        return
    longest = max(width, height)
    line, size = max(2, round(longest / 400)), max(11, round(longest / 64))
    for box, caption, colour in zip(as_boxes(boxes), captions, colours, strict=True):
        x1, y1, x2, y2 = (round(float(value)) for value in box)
        x2, y2 = max(x1 + 1, x2), max(y1 + 1, y2)
        # Four bars along the inside of a box, as far as they lie in the picture.
        for left, top, right, bottom in (
            (x1, y1, x2, y1 + line), (x1, y2 - line, x2, y2), (x1, y1, x1 + line, y2), (x2 - line, y1, x2, y2),
        ):  # fmt: skip
            left, top, right, bottom = max(0, left), max(0, top), min(width, right), min(height, bottom)
            if left < right and top < bottom:
                yield left, top, right, bottom, _Paint(colour)
        # Words come again and again, whole captions with their scores do not.
        words = [_Paint(colour, word, size) for word in caption.split(" ")]
        sizes = [_in_rgb(each).shape for each in words]
        high, wide = sizes[0][0], sum(each[1] for each in sizes)
        left, top = max(0, min(x1, width - wide)), max(0, min(y1, height) - high)
        for word, (_, wide, _) in zip(words, sizes, strict=True):
            if left < width:
                yield left, top, min(width, left + wide), min(height, top + high), word
            left += wide


@lru_cache(maxsize=4096)
def _in_rgb(paint: _Paint) -> NDArray[np.uint8]:
    """(h, w, 3) pixels of a word; of a mere colour one, which fills whatever it is laid into."""
    if not paint.word:
        return np.array([[_rgb_of(paint.colour)]], dtype=np.uint8)
    font = _font(paint.size)
    ascent, descent = font.getmetrics()
    width = math.ceil(font.getlength(paint.word)) + paint.size // 3
    label = Image.new("RGB", (width, ascent + descent), _rgb_of(paint.colour))
    ink = _readable_on(paint.colour)
    ImageDraw.Draw(label).text((paint.size // 6, 0), paint.word, font=font, fill=ink)
    return np.asarray(label)


@lru_cache(maxsize=16384)
def _in_planes(
    paint: _Paint, meaning: tuple[tuple[float, float], bool], odd_left: int, odd_top: int
) -> list[NDArray[np.uint8]]:
    """Brightness, and both colours for two by two pixels each, of a paint whose first corner may be odd."""
    made = in_planes(_in_rgb(paint), *meaning)
    rows = np.clip(np.arange(0, made.shape[0] + odd_top, 2) - odd_top, 0, None)
    columns = np.clip(np.arange(0, made.shape[1] + odd_left, 2) - odd_left, 0, None)
    halves = made[np.ix_(rows, columns)]
    return [made[..., 0], np.ascontiguousarray(halves[..., 1]), np.ascontiguousarray(halves[..., 2])]


@lru_cache(maxsize=8)
def _font(size: int) -> ImageFont.FreeTypeFont:
    font = ImageFont.load_default(size)
    assert isinstance(font, ImageFont.FreeTypeFont), "Pillow was built without FreeType"
    return font


def _readable_on(colour: str) -> tuple[int, int, int]:
    red, green, blue = _rgb_of(colour)
    return INK if 0.299 * red + 0.587 * green + 0.114 * blue > 140 else PAPER


def _rgb_of(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)
