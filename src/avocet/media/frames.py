"""Single frames of a clip by their number: which there are, and any one of them, exactly."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.media.clips import open_clip, readable_frames
from avocet.media.held import HeldFrame

KEPT = 96 * 2**20
"""Bytes of decoded frames that a reader keeps: some forty of 960 × 540, or three of 3840 × 2160."""

FAR = 12
"""Frames that are rather decoded in passing than sought."""

CHECKED = 4
"""Frames at the beginning that are decoded to see whether the stamps of the packets are those of the frames."""

MOST_FRAMES = 1_000_000
"""More than nine hours at thirty a second."""


@dataclass(frozen=True)
class FrameIndex:
    """The frames of a clip in the order in which they are shown.

    Attributes
    ----------
    seconds : (N,) ndarray of float64
        When each is shown, of the clip's own time, rising.
    stamps : (N,) ndarray of int64
        The same in the stream's own units; empty where the clip has no usable stamps, and frames are counted
        from its beginning.
    width, height : int
        Pixels, upright.
    """

    seconds: NDArray[np.float64]
    stamps: NDArray[np.int64]
    width: int
    height: int

    def __len__(self) -> int:
        return len(self.seconds)


def index_frames(
    path: Path, name: str | None = None, looked_at: Callable[[int], object] = lambda _: None
) -> FrameIndex:
    """Find all frames of a clip, without decoding more than its beginning where its stamps can be trusted.

    What the header says of its length is not asked.

    Parameters
    ----------
    path : Path
    name : str, optional
        What to call the clip in messages.
    looked_at : callable
        Called now and then with the number of frames so far: the place to break off by raising something.

    Raises
    ------
    InputError
        If it is not a clip that can be read, holds no frame, or more than are followed here.
    """
    called = name or path.name
    first, width, height = _beginning(path, called)
    stamps, base = _stamps(path, called, looked_at)
    trusted = base > 0 and len(stamps) >= len(first) and all(
        frame.pts is not None and frame.pts == stamp for frame, stamp in zip(first, stamps, strict=False)
    )  # fmt: skip
    if trusted:
        return FrameIndex(np.asarray(stamps * base, dtype=np.float64), stamps, width, height)
    seconds = _counted(path, called, looked_at)
    return FrameIndex(seconds, np.zeros(0, np.int64), width, height)


def _beginning(path: Path, called: str) -> tuple[list[av.VideoFrame], int, int]:
    """The first frames, and their width and height."""
    found: list[av.VideoFrame] = []
    with open_clip(path, called) as container:
        for frame in readable_frames(container):
            found.append(frame)
            if len(found) == CHECKED:
                break
        if not found:
            raise InputError(f"{called} holds no frame that can be read")
        height, width, _ = HeldFrame(found[0], container.streams.video[0]).shape
        return found, width, height


def _stamps(path: Path, called: str, looked_at: Callable[[int], object]) -> tuple[NDArray[np.int64], float]:
    """The packets' stamps in order and the length of their unit in seconds; 0 where one has none."""
    stamps: list[int] = []
    with open_clip(path, called) as container:
        stream = container.streams.video[0]
        base = float(stream.time_base or 0)
        if container.format.name == "avi" and stream.codec_context.has_b_frames:
            # AVI holds the order of decoding only: behind a seek frames would come under other stamps.
            return np.zeros(0, np.int64), 0.0
        try:
            for packet in container.demux(stream):
                if packet.size == 0 or packet.is_discard:
                    continue
                if packet.pts is None:
                    return np.zeros(0, np.int64), 0.0
                stamps.append(packet.pts)
                if len(stamps) % 1000 == 0:
                    looked_at(len(stamps))
                if len(stamps) > MOST_FRAMES:
                    raise InputError(f"{called} has more than {MOST_FRAMES:,} frames; cut it into parts")
        except FFmpegError:
            # Cut short: what came before is there.
            pass
    return np.unique(np.array(stamps, dtype=np.int64)), base


def _counted(path: Path, called: str, looked_at: Callable[[int], object]) -> NDArray[np.float64]:
    """When each frame is shown, by decoding all of them."""
    seconds: list[float] = []
    with open_clip(path, called) as container:
        rate = float(container.streams.video[0].average_rate or 25)
        for number, frame in enumerate(readable_frames(container)):
            seconds.append(float(frame.time) if frame.time is not None else number / rate)
            looked_at(number + 1)
            if number >= MOST_FRAMES:
                raise InputError(f"{called} has more than {MOST_FRAMES:,} frames; cut it into parts")
    rising = np.maximum.accumulate(np.array(seconds, dtype=np.float64))
    return rising if len(np.unique(rising)) == len(rising) else np.arange(len(rising)) / rate


class FrameReader:
    """Gives frames of one clip by number; neighbours are at hand, whoever steps on gets the next without seeking.

    Parameters
    ----------
    path : Path
    index : FrameIndex
    name : str, optional
    kept : int
        Bytes of decoded frames that are kept.

    Notes
    -----
    May be used by several threads; they take turns.
    """

    def __init__(self, path: Path, index: FrameIndex, name: str | None = None, kept: int = KEPT) -> None:
        self._path, self._index, self._called = path, index, name or path.name
        # As the clip holds it, and the pixels that are made of it.
        frame_bytes = max(1, index.width * index.height * 9 // 2)
        self._most = max(3, kept // frame_bytes)
        self._held: OrderedDict[int, HeldFrame] = OrderedDict()
        self._container: av.container.InputContainer | None = None
        self._coming: Iterator[av.VideoFrame] = iter(())
        self._next = 0
        self._lock = threading.Lock()

    def __enter__(self) -> "FrameReader":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the file and of all frames."""
        with self._lock:
            self._held.clear()
            self._close()

    def frame(self, number: int) -> NDArray[np.uint8]:
        """One frame.

        Parameters
        ----------
        number : int
            From 0, in the order in which frames are shown.

        Returns
        -------
        (H, W, 3) ndarray of uint8
            Upright; not to be written into.

        Raises
        ------
        InputError
            If the clip has no such frame, or it is damaged there.
        """
        with self._lock:
            return self._at(number).pixels

    def readable(self, number: int) -> HeldFrame | None:
        """The same before its pixels are made, for one thread; None where the clip is damaged there."""
        try:
            with self._lock:
                return self._at(number)
        except InputError:
            return None

    def _at(self, number: int) -> HeldFrame:
        if not 0 <= number < len(self._index):
            raise InputError(f"{self._called} has frames 0 to {len(self._index) - 1}, not {number}")
        found = self._held.get(number) or self._read(number)
        self._held.move_to_end(number)
        return found

    def _read(self, number: int) -> HeldFrame:
        if self._container is None or not self._next <= number <= self._next + FAR:
            self._seek(number)
        while True:
            frame = next(self._coming, None)
            if frame is None:
                self._close()
                break
            at = self._number_of(frame)
            self._next = at + 1
            if at <= number - self._most or at < 0:
                continue
            assert self._container is not None
            self._keep(at, HeldFrame(frame, self._container.streams.video[0]))
            if at == number:
                return self._held[number]
            if at > number:
                break
        seconds = self._index.seconds[number]
        raise InputError(f"{self._called} is damaged at frame {number} ({seconds:.2f} s)")

    def _number_of(self, frame: av.VideoFrame) -> int:
        stamps = self._index.stamps
        if not len(stamps):
            return self._next
        return (
            int(np.searchsorted(stamps, frame.pts, side="right")) - 1 if frame.pts is not None else self._next
        )

    def _seek(self, number: int) -> None:
        self._close()
        self._container = open_clip(self._path, self._called)
        stream = self._container.streams.video[0]
        stream.thread_type = "AUTO"
        self._next = 0
        if len(self._index.stamps) and number > 0:
            try:
                self._container.seek(int(self._index.stamps[number]), stream=stream, backward=True)
            except FFmpegError:
                # A container that cannot be sought in is read from its beginning.
                self._container.close()
                self._container = open_clip(self._path, self._called)
                self._container.streams.video[0].thread_type = "AUTO"
        self._coming = readable_frames(self._container)

    def _keep(self, number: int, frame: HeldFrame) -> None:
        self._held[number] = frame
        self._held.move_to_end(number)
        while len(self._held) > self._most:
            self._held.popitem(last=False)

    def _close(self) -> None:
        if self._container is not None:
            self._container.close()
        self._container, self._coming = None, iter(())
