"""Recording a camera: a clip in which each frame is shown when it came, with what was found beside it as JSON Lines."""

import json
import threading
import time
from contextlib import suppress
from pathlib import Path
from queue import SimpleQueue
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.files import is_unfinished, replacing
from avocet.media.clip_writer import ClipWriter, settle

RATE = 10.0
"""Frames a second, about."""

WAITING = 12
"""Frames that wait to be packed at most: looking never waits for it, and what is too much is left out."""

Frame = tuple[NDArray[np.uint8], dict[str, Any], float]


class Recording:
    """Writes a clip, and a line for each frame of it, in a thread of its own.

    The clip can be played at any moment, also after a kill, up to the last second or two.

    Parameters
    ----------
    place : Path
        The folder for it.
    at : float
        When it is begun, in seconds of the clock on the wall. The clip begins with its first frame.

    Attributes
    ----------
    left_out : int
        Frames that came while too many were waiting.
    fault : str
        Why nothing is recorded any more; empty while all is well.
    """

    def __init__(self, place: Path, at: float) -> None:
        place.mkdir(parents=True, exist_ok=True)
        self._clip, self._lines = _free(place, time.strftime("%Y-%m-%d-%H%M%S", time.localtime(at)))
        self._begun = at
        self._size: tuple[int, ...] = ()
        self._waiting: SimpleQueue[Frame | None] = SimpleQueue()
        self.left_out, self.fault = 0, ""
        self._thread = threading.Thread(target=self._write, name="recording", daemon=True)
        self._thread.start()

    @property
    def name(self) -> str:
        return self._clip.name

    def add(self, pixels: NDArray[np.uint8], row: dict[str, Any], at: float) -> None:
        """A frame that came at a moment; it is shown until the next one."""
        self._size = self._size or pixels.shape
        if pixels.shape != self._size:
            return  # a clip has one size; the caller begins another
        if self._waiting.qsize() >= WAITING:
            self.left_out += 1
            return
        self._waiting.put((pixels, row, at))

    def fits(self, pixels: NDArray[np.uint8]) -> bool:
        """Whether a frame has the size of those before."""
        return not self._size or pixels.shape == self._size

    def end(self) -> None:
        """Finish the clip, in the background."""
        self._waiting.put(None)

    def close(self) -> None:
        """Finish the clip and wait for it."""
        self.end()
        self._thread.join()

    def _write(self) -> None:
        frames, last = 0, -1.0
        writer: ClipWriter | None = None
        try:
            with self._lines.open("w", encoding="utf-8") as lines:
                while (frame := self._waiting.get()) is not None:
                    pixels, row, at = frame
                    if writer is None:
                        self._begun = at
                    seconds = at - self._begun
                    if seconds <= last:
                        continue
                    if writer is None:
                        writer = ClipWriter(self._clip, pixels.shape[1], pixels.shape[0], RATE, live=True)
                    writer.write(pixels, seconds)
                    line = {"frame": frames, "seconds": round(seconds, 3), "at": round(at, 3)} | row
                    lines.write(json.dumps(line, ensure_ascii=False) + "\n")
                    lines.flush()
                    frames, last = frames + 1, seconds
            if writer is not None:
                writer.close()
                writer = None
                # It plays as it is: where there is no room for another one it stays so.
                with suppress(InputError, OSError), replacing(self._clip) as temporary:
                    settle(self._clip, temporary)
        except Exception as error:  # a full disk, a packer that gives up: looking goes on
            self.fault = f"the recording broke off: {error}"
            while self._waiting.get() is not None:
                pass
        finally:
            if writer is not None:
                with suppress(Exception):
                    writer.close()


def _free(place: Path, stem: str) -> tuple[Path, Path]:
    """Names for a clip and its lines that nothing has: two may begin in one second."""
    number, called = 2, stem
    while (place / f"{called}.mp4").exists() or (place / f"{called}.jsonl").exists():
        called, number = f"{stem}-{number}", number + 1
    return place / f"{called}.mp4", place / f"{called}.jsonl"


def recordings(place: Path) -> list[str]:
    """Names of the clips that were recorded, newest first: also of one that is under way, or was broken off by a kill."""
    if not place.is_dir():
        return []
    names = [each.name for each in place.glob("*.mp4") if not each.name.startswith(".")]
    return sorted((each for each in names if not is_unfinished(each)), reverse=True)
