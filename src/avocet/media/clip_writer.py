"""Writing clips."""

from collections.abc import Iterator
from contextlib import suppress
from fractions import Fraction
from pathlib import Path
from types import TracebackType

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.media.clips import open_clip
from avocet.media.planes import KIND, Planes

USUAL = {"crf": "21", "preset": "veryfast"}
QUICK = {"crf": "24", "preset": "ultrafast"}
"""How H.264 is packed; of pictures of the belt 40 and 39 dB of signal are left over noise."""


LIVE = {"crf": "23", "preset": "ultrafast", "tune": "zerolatency", "threads": "1", "g": "50"}
"""Nothing is held back, and whatever else works keeps its cores."""

SETTLED = {"movflags": "+faststart"}
BY_AND_BY = {"movflags": "+empty_moov+default_base_moof", "frag_duration": "1000000", "flush_packets": "1"}
"""Pieces of a second, each with its own index: what is written can be played, whenever it breaks off."""

TICKS = 90_000
"""Units of a second in which times are written: a multiple of the usual rates."""


class ClipWriter:
    """Write frames to an MP4 clip (H.264) that browsers play.

    Parameters
    ----------
    path : Path
        Ends in ``.mp4``; the caller renames it into place when all went well.
    width, height : int
        Pixels of the frames given; odd sizes lose their last row or column.
    rate : float
        Frames a second, where frames do not come with times of their own; else about how many there are.
    sound_of : Path, optional
        A clip whose sound goes along as it is, all tracks of it, where MP4 can hold them.
    quick : bool
        Takes half the time for a quarter more bytes: for copies that are packed beside a network at work.
    live : bool
        What is written so far can be played at any moment, also after a kill.

    Attributes
    ----------
    has_sound : bool
    """

    def __init__(
        self,
        path: Path,
        width: int,
        height: int,
        rate: float,
        sound_of: Path | None = None,
        quick: bool = False,
        live: bool = False,
    ) -> None:
        self._container = av.open(str(path), "w", format="mp4", options=dict(BY_AND_BY if live else SETTLED))
        self._stream = self._container.add_stream("libx264", rate=Fraction(rate).limit_denominator(1001))
        self._stream.width, self._stream.height = width - width % 2, height - height % 2
        self._stream.pix_fmt = KIND
        self._stream.options = dict(LIVE if live else QUICK if quick else USUAL)
        self._stream.codec_context.time_base = Fraction(1, TICKS)
        self._rate, self._written, self._last = rate, 0, -1
        self._sound = _Sound(self._container, sound_of) if sound_of is not None else None

    @property
    def has_sound(self) -> bool:
        return self._sound is not None and self._sound.there

    def write(self, pixels: NDArray[np.uint8], seconds: float | None = None) -> None:
        """Add one (H, W, 3) frame, shown from a moment on; by default the next one at the clip's rate."""
        even = np.ascontiguousarray(pixels[: self._stream.height, : self._stream.width])
        self._pack(av.VideoFrame.from_ndarray(even, format="rgb24"), seconds)

    def write_planes(self, planes: Planes, seconds: float | None = None) -> None:
        """Add one frame as another clip holds it; of the first the clip takes over what its values mean."""
        if not self._written:
            context = self._stream.codec_context
            context.colorspace, context.color_range = planes.colorspace, planes.color_range
        self._pack(av.VideoFrame.from_numpy_buffer(planes.data, KIND), seconds)

    def _pack(self, frame: av.VideoFrame, seconds: float | None) -> None:
        if seconds is None:
            seconds = self._written / self._rate
        # Two frames never share a moment, however a clip's own times are rounded.
        self._last = max(self._last + 1, round(seconds * TICKS))
        frame.pts, frame.time_base = self._last, Fraction(1, TICKS)
        for packet in self._stream.encode(frame):
            self._container.mux(packet)
        self._written += 1
        if self._sound is not None:
            self._sound.until(self._ends)

    @property
    def _ends(self) -> float:
        return self._last / TICKS + 1 / self._rate

    def close(self) -> None:
        """Write what is still held back and close the file."""
        for packet in self._stream.encode():
            self._container.mux(packet)
        if self._sound is not None:
            # Of a clip that was broken off the sound ends with the picture.
            self._sound.until(self._ends)
            self._sound.close()
        self._container.close()

    def __enter__(self) -> "ClipWriter":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if error is None:
            self.close()
        else:
            if self._sound is not None:
                self._sound.close()
            self._container.close()


class _Sound:
    """A clip's sound, all its tracks packed as they are, handed on beside the frames."""

    def __init__(self, into: av.container.OutputContainer, source: Path) -> None:
        self._into = into
        self._source = open_clip(source, source.name)
        self._waiting: av.Packet | None = None
        self._tracks: dict[int, av.AudioStream] = {}
        for each in self._source.streams.audio:
            # A kind of sound that MP4 cannot hold stays behind.
            with suppress(FFmpegError, ValueError):
                self._tracks[each.index] = into.add_stream_from_template(each)
        known = [self._source.streams[index] for index in self._tracks]
        self._packets: Iterator[av.Packet] = self._source.demux(known) if known else iter(())

    @property
    def there(self) -> bool:
        return bool(self._tracks)

    def until(self, seconds: float) -> None:
        """Hand on what is heard before a moment."""
        try:
            while True:
                packet = self._waiting or next(self._packets, None)
                self._waiting = None
                if packet is None:
                    return
                if packet.dts is None or packet.time_base is None:
                    continue
                if float(packet.dts * packet.time_base) > seconds:
                    self._waiting = packet
                    return
                packet.stream = self._tracks[packet.stream.index]
                self._into.mux(packet)
        except (FFmpegError, InputError):
            # Sound that is damaged from here on ends here; the frames go on.
            self._packets = iter(())

    def close(self) -> None:
        self._source.close()


def settle(path: Path, into: Path) -> None:
    """Write a clip that was written by and by with one index at its beginning, as players like it; packets stay as they are.

    Raises
    ------
    InputError
        If it cannot be read.
    """
    with open_clip(path, path.name) as source, av.open(str(into), "w", format="mp4", options=SETTLED) as made:
        stream = source.streams.video[0]
        copied = made.add_stream_from_template(stream)
        for packet in source.demux(stream):
            if packet.dts is not None:
                packet.stream = copied
                made.mux(packet)
