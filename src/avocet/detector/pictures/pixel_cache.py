"""Decoded pictures in one memory-mapped file: memory stays the same however many there are."""

import shutil
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

LARGEST_SHARE = 0.5
"""At most this share of the free disk is used; pictures beyond are decoded anew each time."""


class PixelCache:
    """Pictures of known shapes, each decoded once and kept on disk while a training lasts.

    The operating system holds in memory what is in use and drops it when memory is short.

    Parameters
    ----------
    folder : Path or None
        Where the file lies; None makes a temporary folder.
    name : str
        Of the file. It is made anew, and removed by `close`.
    shapes : sequence of (int, int)
        Height and width of every picture.
    """

    def __init__(self, folder: Path | None, name: str, shapes: Sequence[tuple[int, int]]) -> None:
        self._shapes = shapes
        self._temporary = tempfile.TemporaryDirectory(prefix="avocet-") if folder is None else None
        path = (folder if self._temporary is None else Path(self._temporary.name)) / name  # type: ignore[operator]
        sizes = np.array([height * width * 3 for height, width in shapes], dtype=np.int64)
        ends = np.cumsum(sizes)
        path.parent.mkdir(parents=True, exist_ok=True)
        room = shutil.disk_usage(path.parent).free * LARGEST_SHARE
        self._kept = int(np.searchsorted(ends, room, side="right"))
        self._starts = ends - sizes
        self._filled = np.zeros(len(shapes), dtype=bool)
        self._path = path
        total = int(ends[self._kept - 1]) if self._kept else 0
        self._pixels = np.memmap(path, np.uint8, "w+", shape=(total,)) if total else None

    def get(self, index: int, make: Callable[[], NDArray[np.uint8]]) -> NDArray[np.uint8]:
        """Picture ``index``; ``make`` decodes it the first time."""
        if not self.keeps(index) or self._pixels is None:
            return make()
        height, width = self._shapes[index]
        start = int(self._starts[index])
        held = self._pixels[start : start + height * width * 3].reshape(height, width, 3)
        if not self._filled[index]:
            held[...] = make()
            self._filled[index] = True
        return np.asarray(held)

    def keeps(self, index: int) -> bool:
        """Whether there is room for picture ``index``."""
        return index < self._kept

    def close(self) -> None:
        """Remove the file."""
        self._pixels = None
        self._path.unlink(missing_ok=True)
        if self._temporary is not None:
            self._temporary.cleanup()
