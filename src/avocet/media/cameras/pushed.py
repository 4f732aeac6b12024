"""Frames that a page sends from the camera of its own computer: the newest lies in a file."""

import threading
import time
from pathlib import Path

from avocet.core.errors import InputError
from avocet.files import write_bytes
from avocet.media.cameras.live import STALLED
from avocet.media.cameras.newest import LiveFrame
from avocet.media.pictures import read_picture

LARGEST_PUSHED = 8_000_000
"""Bytes of a frame."""

LOOK_EVERY = 0.015

NAME = "pushed.jpg"


def push_frame(place: Path, content: bytes) -> None:
    """Put a frame where `PushedCamera` finds it.

    Parameters
    ----------
    place : Path
    content : bytes
        Of a JPEG.

    Raises
    ------
    InputError
        If it is none, or too large.
    """
    if len(content) > LARGEST_PUSHED:
        raise InputError(f"a frame has at most {LARGEST_PUSHED:,} bytes, not {len(content):,}")
    if not content.startswith(b"\xff\xd8\xff"):
        raise InputError("the frame is no JPEG")
    write_bytes(place / NAME, content)


class PushedCamera:
    """Gives the newest of the frames that are pushed, as `avocet.media.cameras.live.Camera` does.

    Parameters
    ----------
    place : Path
        Where they are put.

    Attributes
    ----------
    reconnects : int
        How often frames came again after they had stayed away.
    """

    def __init__(self, place: Path) -> None:
        self._path = place / NAME
        # What lies there was seen before this began.
        self._stamp = self._now()
        self._number, self._at = 0, 0.0
        self._why = ""
        self._closing = threading.Event()
        self.reconnects = 0

    def newest(self, after: int, seconds: float) -> LiveFrame | None:
        """The newest frame that was not given yet, waited for at most so long."""
        ends = time.monotonic() + seconds
        while not self._closing.is_set():
            stamp = self._now()
            if stamp != self._stamp and stamp:
                self._stamp = stamp
                try:
                    pixels = read_picture(self._path, "the frame")
                    self._why = ""
                except InputError as error:
                    self._why = str(error)
                    continue
                at = stamp / 1e9
                if self._number and at - self._at > STALLED:
                    self.reconnects += 1
                self._number, self._at = max(self._number, after) + 1, at
                return LiveFrame(self._number, at, pixels)
            if time.monotonic() > ends:
                return None
            self._closing.wait(LOOK_EVERY)
        return None

    def state(self) -> tuple[str, str]:
        """How it stands, in a word ('connecting', 'live' or 'stalled'), and why."""
        if self._why:
            return "stalled", self._why
        if not self._number:
            return "connecting", "Waiting for the page that sends its camera"
        silent = time.time() - self._at
        if silent < STALLED:
            return "live", ""
        return "stalled", f"No frame for {silent:.0f} s; is the page that sends its camera still open?"

    def close(self) -> None:
        """Give no more."""
        self._closing.set()

    def _now(self) -> int:
        try:
            return self._path.stat().st_mtime_ns
        except OSError:
            return 0
