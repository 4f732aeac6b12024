"""Recording a camera: a clip that runs as time did, with what was found beside it as JSON Lines."""

import json
import time
from pathlib import Path
from typing import IO, Any

import numpy as np
from numpy.typing import NDArray

from avocet.files import is_unfinished
from avocet.media.clip_writer import ClipWriter

RATE = 10.0
"""Frames a second of a recording."""

LONGEST_GAP = 100
"""Frames that are repeated at most for a time in which nothing came; what was longer is cut to that."""


class Recording:
    """Writes a clip, and a line for each frame of it.

    Parameters
    ----------
    place : Path
        The folder for it.
    at : float
        When it begins, in seconds of the clock on the wall.
    """

    def __init__(self, place: Path, at: float) -> None:
        place.mkdir(parents=True, exist_ok=True)
        stem = time.strftime("%Y-%m-%d-%H%M%S", time.localtime(at))
        # Whole only once it is closed.
        self._part, self._clip = place / f".{stem}-recording.mp4", place / f"{stem}.mp4"
        self._lines = (place / f"{stem}.jsonl").open("w", encoding="utf-8")
        self._begun, self._frames = at, 0
        self._writer: ClipWriter | None = None
        self._size: tuple[int, ...] = ()
        self._last: NDArray[np.uint8] = np.zeros((0, 0, 3), np.uint8)

    @property
    def name(self) -> str:
        return self._clip.name

    def add(self, pixels: NDArray[np.uint8], row: dict[str, Any], at: float) -> None:
        """A frame that came at a moment; it is shown until the next one."""
        if self._writer is None:
            self._size, self._last = pixels.shape, pixels
            self._writer = ClipWriter(self._part, pixels.shape[1], pixels.shape[0], RATE)
        if pixels.shape != self._size:
            return  # a clip has one size; the caller begins another
        place = int((at - self._begun) * RATE + 1e-6)
        if place > self._frames + LONGEST_GAP:
            # From here on the clip is behind the clock by what was cut.
            self._begun += (place - self._frames - LONGEST_GAP) / RATE
            place = self._frames + LONGEST_GAP
        if place < self._frames:
            return
        for _ in range(place - self._frames):
            # Until now the one before was to be seen.
            self._writer.write(self._last)
        self._writer.write(pixels)
        self._frames, self._last = place + 1, pixels
        line = {"frame": place, "seconds": round(place / RATE, 3), "at": round(at, 3)} | row
        self._lines.write(json.dumps(line, ensure_ascii=False) + "\n")
        self._lines.flush()

    def fits(self, pixels: NDArray[np.uint8]) -> bool:
        """Whether a frame has the size of those before."""
        return self._writer is None or pixels.shape == self._size

    def close(self) -> None:
        """Finish the clip."""
        _close(self._lines)
        if self._writer is not None:
            self._writer.close()
            self._part.replace(self._clip)


def _close(opened: IO[str]) -> None:
    opened.close()


def recordings(place: Path) -> list[str]:
    """Names of the clips that were recorded, newest first."""
    if not place.is_dir():
        return []
    names = [each.name for each in place.glob("*.mp4") if not each.name.startswith(".")]
    return sorted((each for each in names if not is_unfinished(each)), reverse=True)
