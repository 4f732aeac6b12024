"""Small square parts of pictures: boxes to look at, many of one picture in a row."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from avocet.core.errors import InputError
from avocet.media.pictures import picture_size, read_picture

AROUND = 0.18
"""Share of a box's longer side that crops show around it."""

SHRUNK_AS_READ = (".jpg", ".jpeg")
"""Of files so named fewer pixels may be made than they have."""

MOST_KEPT = 96_000_000
"""Bytes of pictures that crops were asked of a moment ago; one that would take more than half is not kept."""


class _Recent:
    """Pictures as they were read for a crop: the next one of the same picture need not read it again.

    A page of boxes asks for several of each picture, and for some of them at once: the first one reads it.
    """

    def __init__(self, most: int) -> None:
        self._most, self._held, self._lock = most, 0, threading.Lock()
        self._kept: OrderedDict[tuple[object, ...], NDArray[np.uint8]] = OrderedDict()
        self._reading: dict[tuple[object, ...], threading.Lock] = {}

    def pixels(
        self, path: Path, shrunk: int, read: Callable[[], NDArray[np.uint8]], white: float | None = None
    ) -> NDArray[np.uint8]:
        """What was read of a file, if it is still the same file; else what is read now."""
        try:
            seen = path.stat()
        except OSError:
            return read()
        key = (path, seen.st_ino, seen.st_size, seen.st_mtime_ns, shrunk, white)
        reading = self._reading_of(key)
        with reading:
            found = self._found(key)
            if found is None:
                try:
                    found = read()
                    self._keep(key, found)
                finally:
                    with self._lock:
                        self._reading.pop(key, None)
            return found

    def _reading_of(self, key: tuple[object, ...]) -> AbstractContextManager[object]:
        """What to hold while a file is read that is not known."""
        with self._lock:
            return nullcontext() if key in self._kept else self._reading.setdefault(key, threading.Lock())

    def _found(self, key: tuple[object, ...]) -> NDArray[np.uint8] | None:
        with self._lock:
            found = self._kept.get(key)
            if found is not None:
                self._kept.move_to_end(key)
            return found

    def _keep(self, key: tuple[object, ...], pixels: NDArray[np.uint8]) -> None:
        pixels.flags.writeable = False
        with self._lock:
            if pixels.nbytes > self._most // 2 or key in self._kept:
                return
            self._kept[key] = pixels
            self._held += pixels.nbytes
            while self._held > self._most:
                self._held -= self._kept.popitem(last=False)[1].nbytes


_recent = _Recent(MOST_KEPT)


def crop_picture(
    path: Path, region: Sequence[float], side: int, name: str | None = None, white: float | None = None
) -> NDArray[np.uint8]:
    """A square part of a picture, drawn ``side`` pixels wide; what lies beyond the edge is black.

    Parameters
    ----------
    path : Path
    region : four float
        ``x1, y1, x2, y2`` of a square in the upright picture's pixels; it may reach over the edge.
    side : int
    name : str, optional
    white : float, optional
        As of `read_picture`.

    Returns
    -------
    (side, side, 3) ndarray of uint8

    Raises
    ------
    InputError
        As `read_picture`, and if the region lies outside.
    """
    called = name or path.name
    width, height = picture_size(path, called)
    x1, y1, x2, y2 = region
    if not (x2 > 0 and y2 > 0 and x1 < width and y1 < height and x2 > x1 and y2 > y1):
        raise InputError(f"{called}: [{x1:g}, {y1:g}, {x2:g}, {y2:g}] holds nothing of the picture")
    shrunk = _shrunk_by((x2 - x1) / side) if path.suffix.lower() in SHRUNK_AS_READ else 1
    whole = _recent.pixels(
        path, shrunk, lambda: read_picture(path, called, max(width, height) / shrunk, white), white
    )
    return crop_pixels(whole, region, side, width)


def square_around(box: Sequence[float], around: float = AROUND) -> tuple[float, float, float, float]:
    """The square region that shows a box with a little surrounding.

    Parameters
    ----------
    box : four float
    around : float
        Share of the box's longer side that is shown on each side of it.

    Raises
    ------
    InputError
        If the box has no area.

    Examples
    --------
    >>> square_around([10, 10, 30, 20], around=0.1)
    (8.0, 3.0, 32.0, 27.0)
    """
    x1, y1, x2, y2 = box
    if not np.isfinite(box).all() or not (x2 > x1 and y2 > y1):
        raise InputError(f"a crop needs corners with an area, not {list(box)}")
    half = max(x2 - x1, y2 - y1) * (0.5 + around)
    middle_x, middle_y = (x1 + x2) / 2, (y1 + y2) / 2
    return middle_x - half, middle_y - half, middle_x + half, middle_y + half


def crop_pixels(
    whole: NDArray[np.uint8], region: Sequence[float], side: int, width: int
) -> NDArray[np.uint8]:
    """A square part of pixels that are there already, as `crop_picture`.

    Parameters
    ----------
    whole : (H, W, 3) ndarray of uint8
        May be smaller than the picture that the region is told for.
    region : four float
    side : int
    width : int
        Of that picture.
    """
    x1, y1, x2, y2 = region
    scale = whole.shape[1] / width
    zoom = side / ((x2 - x1) * scale)
    left, top = max(0, round(x1 * scale)), max(0, round(y1 * scale))
    right = min(whole.shape[1], max(round(x2 * scale), left + 1))
    bottom = min(whole.shape[0], max(round(y2 * scale), top + 1))
    left, top = min(left, right - 1), min(top, bottom - 1)
    part = Image.fromarray(whole[top:bottom, left:right])
    size = (_within(zoom * (right - left), side), _within(zoom * (bottom - top), side))
    small = part.resize(size, Image.Resampling.BOX if zoom < 1 else Image.Resampling.BICUBIC)
    canvas = Image.new("RGB", (side, side))
    place = (round((left - x1 * scale) * zoom), round((top - y1 * scale) * zoom))
    canvas.paste(small, (min(place[0], side - 1), min(place[1], side - 1)))
    return np.asarray(canvas)


def _shrunk_by(pixels_each: float) -> int:
    """Of the sizes that a JPEG can be read at, the smallest that has a pixel for each of the crop's."""
    return next((each for each in (8, 4, 2) if pixels_each >= each), 1)


def _within(length: float, most: int) -> int:
    return min(max(1, round(length)), most)
