"""Reading frames out of clips, and writing clips."""

import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.media.held import HeldFrame

MP4_BOXES = frozenset({b"ftyp", b"moov", b"mdat", b"free", b"skip", b"wide", b"pnot"})
"""What a file of the MP4 family begins with (ISO/IEC 14496-12, and Apple's QuickTime before it)."""

LARGEST_FRAME = 36_000_000
"""Pixels: those of the largest video format, 7680×4320, and some more. A decoder holds several frames."""

FASTEST = 100_000.0
"""Frames a second: more than any camera takes that writes such clips."""

LONGEST = 100 * 24 * 3600.0
"""Seconds: more than any clip has. What a header says beyond that is not believed."""

CUT_OFF = 0.5
"""Seconds that a clip may end earlier than its header says before that is told."""

SUFFIXES = frozenset({".mp4", ".mov", ".avi", ".mkv", ".webm"})


@dataclass(frozen=True)
class ClipInfo:
    """What a clip's header says.

    Attributes
    ----------
    width, height : int
        Pixels, upright.
    rate : float
        Frames a second.
    seconds : float
        Length; 0 where the header does not say.
    """

    width: int
    height: int
    rate: float
    seconds: float

    @property
    def frames(self) -> int:
        """Estimated number of frames."""
        return max(1, round(self.seconds * self.rate))


@dataclass(frozen=True)
class ClipFrame:
    """One decoded frame: its number, its time in seconds, and what is seen on it."""

    number: int
    seconds: float
    held: HeldFrame

    @property
    def pixels(self) -> NDArray[np.uint8]:
        """(H, W, 3) uint8."""
        return self.held.pixels


def clip_info(path: Path, name: str | None = None) -> ClipInfo:
    """Read a clip's header, and its first frame for the size that it is shown in.

    Raises
    ------
    InputError
        If the file is no clip, has no video stream or no frame, or its frames are too large.
    """
    with open_clip(path, name or path.name) as container:
        stream = container.streams.video[0]
        rate = float(stream.average_rate or stream.base_rate or 25)
        if stream.duration and stream.time_base:
            seconds = float(stream.duration * stream.time_base)
        else:
            seconds = (container.duration or 0) / 1_000_000
        if not 0 < rate < FASTEST:
            raise InputError(f"{name or path.name} claims {rate:g} frames a second, which no clip has")
        believed = seconds if 0 <= seconds <= LONGEST else 0.0
        first = next(readable_frames(container), None)
        if first is None:
            raise InputError(f"{name or path.name} holds no frame that can be read")
        height, width, _ = HeldFrame(first, stream).shape
        return ClipInfo(width, height, rate, believed)


class FrameChoice:
    """Which frames of a clip are looked at, asked of one after the other.

    Parameters
    ----------
    rate : float
        Frames a second of the clip.
    every : int
        Only every so-many-th.
    per_second : float, optional
        Only about so many a second of the clip's own time.

    Examples
    --------
    >>> choice = FrameChoice(10.0, per_second=4)
    >>> [number for number in range(10) if choice.takes(number, number / 10)]
    [0, 2, 5, 7]
    """

    def __init__(self, rate: float, every: int = 1, per_second: float | None = None) -> None:
        self._rate, self._every, self._per_second = rate, every, per_second
        self._next = 0.0

    def takes(self, number: int, seconds: float) -> bool:
        """Whether the next frame is looked at: its number, and when it is shown."""
        if number % self._every:
            return False
        if self._per_second is None:
            return True
        # Half a frame of tolerance: timestamps are rounded to the stream's time base.
        if seconds + 0.5 / self._rate < self._next:
            return False
        # Where the clip jumps ahead, the frames that would lie in the gap are left out.
        step = self._per_second
        self._next = max(self._next + 1 / step, (seconds * step // 1 + 1) / step)
        return True


def read_frames(
    path: Path,
    per_second: float | None = None,
    name: str | None = None,
    looked_at: Callable[[], object] = lambda: None,
    every: int = 1,
    damage: Callable[[str], object] | None = None,
) -> Iterator[ClipFrame]:
    """Decode frames of a clip in order.

    Parameters
    ----------
    path : Path
    per_second : float, optional
        Keep about so many frames a second of the clip's own time; by default every frame.
    name : str, optional
        What to call the clip in messages.
    looked_at : callable
        Called with each frame that is decoded, also one that is left out: the place to break off by
        raising something.
    every : int
        Keep every so-many-th frame.
    damage : callable, optional
        Where it is given, it gets a sentence for each damaged stretch and reading goes on behind it.

    Yields
    ------
    ClipFrame

    Raises
    ------
    InputError
        If the clip cannot be read, or holds not one frame.
    """
    called = name or path.name
    if per_second is not None and not (math.isfinite(per_second) and per_second > 0):
        raise InputError(f"frames a second must be above 0, not {per_second}")
    number, seen = -1, False
    with open_clip(path, called) as container:
        stream = container.streams.video[0]
        stream.thread_type = "SLICE"
        rate = float(stream.average_rate or 25)
        choice = FrameChoice(rate, every, per_second)
        seconds = 0.0
        try:
            for frame in _decoded(container, stream, called, damage):
                number += 1
                looked_at()
                seconds = float(frame.time) if frame.time is not None else number / rate
                if not choice.takes(number, seconds):
                    continue
                seen = True
                yield ClipFrame(number, seconds, HeldFrame(frame, stream))
        except FFmpegError as error:
            raise InputError(f"{called} is damaged after frame {number + 1}: {error.strerror}") from None
        promised = _promised(container, stream)
        if damage is not None and seen and promised - seconds > max(CUT_OFF, 3 / rate):
            damage(
                f"{called} ends at {seconds:.1f} s, and its header says {promised:.1f} s: the file was cut off, or its end "
                "cannot be read"
            )
    if not seen:
        raise InputError(f"{called} holds no frame that can be read")


def _promised(container: av.container.InputContainer, stream: av.VideoStream) -> float:
    """When the picture ends, as the header says; 0 where it does not, or nobody would believe it."""
    if container.format.name == "avi" and stream.frames and stream.average_rate:
        # Of an AVI the duration is worked out from how long the file is.
        seconds = float(stream.frames / stream.average_rate)
    elif stream.duration and stream.time_base:
        seconds = float(((stream.start_time or 0) + stream.duration) * stream.time_base)
    elif len(container.streams) == 1 and container.duration:
        # Of a container the longest of its streams ends then, which may be the sound.
        seconds = ((container.start_time or 0) + container.duration) / 1_000_000
    else:
        told = stream.metadata.get("DURATION", "")
        parts = told.split(":")
        try:
            seconds = sum(float(part) * 60**place for place, part in enumerate(reversed(parts)))
        except ValueError:
            seconds = 0.0
    return seconds if 0 <= seconds <= LONGEST else 0.0


def _decoded(
    container: av.container.InputContainer,
    stream: av.VideoStream,
    called: str,
    damage: Callable[[str], object] | None,
) -> Iterator[av.VideoFrame]:
    """All frames; over damaged stretches where somebody is told of them."""
    if damage is None:
        yield from container.decode(stream)
        return
    whole, seconds = True, 0.0
    for packet in container.demux(stream):
        try:
            frames = packet.decode()
        except FFmpegError as error:
            if whole:
                damage(
                    f"{called} is damaged after {seconds:.2f} s: {error.strerror}; what can be read behind it was"
                )
            whole = False
            continue
        for frame in frames:
            seconds = float(frame.time) if frame.time is not None else seconds
            whole = True
            yield frame


def readable_frames(container: av.container.InputContainer) -> Iterator[av.VideoFrame]:
    """All frames that can be decoded, over damaged stretches."""
    try:
        yield from _decoded(container, container.streams.video[0], "", lambda _: None)
    except FFmpegError:
        # The container itself ends here: what is behind cannot be found.
        return


def open_clip(path: Path, called: str) -> av.container.InputContainer:
    if not path.is_file():
        raise InputError(f"{called}: there is no such file")
    if path.stat().st_size == 0:
        raise InputError(f"{called} is empty (0 bytes)")
    kind = _container_of(path)
    if kind is None:
        raise InputError(f"{called} is not a clip that can be read: neither MP4, MOV, AVI, MKV nor WebM")
    try:
        # Only the file itself, as what its first bytes say: a script or playlist could name other files
        # or addresses, or itself without end.
        container = av.open(str(path), format=kind, options={"protocol_whitelist": "file"})
    except (FFmpegError, ValueError) as error:
        raise InputError(f"{called} is not a clip that can be read: {_reason(error)}") from None
    if not container.streams.video:
        container.close()
        raise InputError(f"{called} has no video stream")
    # FFmpeg makes no context for a stream that it has no decoder for.
    context = container.streams.video[0].codec_context
    if context is None:
        container.close()
        raise InputError(f"{called} is packed in a way that there is no decoder for here")
    if context.width < 8 or context.height < 8 or context.width * context.height > LARGEST_FRAME:
        container.close()
        raise InputError(
            f"{called} has frames of {context.width}×{context.height} pixels, which cannot be read"
        )
    return container


def _container_of(path: Path) -> str | None:
    """Which of the known containers a file is, by its first bytes; None for anything else."""
    with path.open("rb") as file:
        head = file.read(16)
    if head[4:8] in MP4_BOXES:
        return "mp4"
    if head[:4] == b"\x1a\x45\xdf\xa3":
        return "matroska"
    if head[:4] == b"RIFF" and head[8:12] == b"AVI ":
        return "avi"
    return None


def _reason(error: Exception) -> str:
    """What FFmpeg says, without the path on this machine."""
    return (error.strerror if isinstance(error, FFmpegError) else None) or str(error)


PASSED = 5.0
"""Seconds that are rather decoded in passing than sought: half of what usually lies between two places from which a clip
can be decoded."""


ROUNDED = 0.002
"""Seconds by which a moment that is asked for may differ from a frame's own: timestamps are in milliseconds or finer."""


def frame_at(path: Path, seconds: float, name: str | None = None) -> NDArray[np.uint8]:
    """The frame that is shown at a moment, from the nearest place before from which a clip can be decoded.

    Over a damaged stretch the last frame before it is shown, as a player does.

    Parameters
    ----------
    path : Path
    seconds : float
        Of the clip's own time.
    name : str, optional

    Returns
    -------
    (H, W, 3) ndarray of uint8

    Raises
    ------
    InputError
        If the clip cannot be read there.
    """
    return next(frames_at(path, [seconds], name))


def frames_at(path: Path, moments: Iterable[float], name: str | None = None) -> Iterator[NDArray[np.uint8]]:
    """The frames that are shown at some moments, as `frame_at` gives each: quickest where they rise.

    Parameters
    ----------
    path : Path
    moments : iterable of float
        Seconds of the clip's own time.
    name : str, optional

    Yields
    ------
    (H, W, 3) ndarray of uint8

    Raises
    ------
    InputError
        If the clip cannot be read at a moment.
    """
    called = name or path.name
    with open_clip(path, called) as container:
        stream = container.streams.video[0]
        stream.thread_type = "AUTO"
        coming: Iterator[av.VideoFrame] = iter(())
        last, after = None, None
        for seconds in moments:
            try:
                if last is None or not 0 <= seconds - _shown(last) <= PASSED:
                    last, after = None, None
                    if stream.time_base and seconds > 0:
                        container.seek(max(0, int(seconds / stream.time_base)), stream=stream, backward=True)
                    coming = _decoded(container, stream, called, lambda _: None)
                while (frame := after or next(coming, None)) is not None:
                    after = None
                    # The one after it: with some tolerance, as timestamps are rounded.
                    if last is not None and _shown(frame) > seconds + ROUNDED:
                        after = frame
                        break
                    last = frame
            except FFmpegError as error:
                if last is None:
                    raise InputError(f"{called} is damaged at {seconds:.2f} s: {error.strerror}") from None
            if last is None:
                raise InputError(f"{called} holds no frame at {seconds:.2f} s")
            yield HeldFrame(last, stream).pixels


def _shown(frame: av.VideoFrame) -> float:
    return float(frame.time) if frame.time is not None else 0.0
