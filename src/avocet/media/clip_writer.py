"""Writing clips."""

from collections.abc import Iterator
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


class ClipWriter:
    """Write frames to an MP4 clip (H.264) that browsers play.

    Parameters
    ----------
    path : Path
        Ends in ``.mp4``; the caller renames it into place when all went well.
    width, height : int
        Pixels of the frames given; odd sizes lose their last row or column.
    rate : float
        Frames a second.
    sound_of : Path, optional
        A clip whose sound goes along as it is, where MP4 can hold it.
    quick : bool
        Takes half the time for a quarter more bytes: for copies that are packed beside a network at work.

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
    ) -> None:
        self._container = av.open(str(path), "w", format="mp4", options={"movflags": "+faststart"})
        self._stream = self._container.add_stream("libx264", rate=Fraction(rate).limit_denominator(1001))
        self._stream.width, self._stream.height = width - width % 2, height - height % 2
        self._stream.pix_fmt = KIND
        self._stream.options = dict(QUICK if quick else USUAL)
        self._rate, self._written = rate, 0
        self._sound = _Sound(self._container, sound_of) if sound_of is not None else None

    @property
    def has_sound(self) -> bool:
        return self._sound is not None and self._sound.there

    def write(self, pixels: NDArray[np.uint8]) -> None:
        """Add one (H, W, 3) frame."""
        even = np.ascontiguousarray(pixels[: self._stream.height, : self._stream.width])
        self._pack(av.VideoFrame.from_ndarray(even, format="rgb24"))

    def write_planes(self, planes: Planes) -> None:
        """Add one frame as another clip holds it; of the first the clip takes over what its values mean."""
        if not self._written:
            context = self._stream.codec_context
            context.colorspace, context.color_range = planes.colorspace, planes.color_range
        self._pack(av.VideoFrame.from_numpy_buffer(planes.data, KIND))

    def _pack(self, frame: av.VideoFrame) -> None:
        for packet in self._stream.encode(frame):
            self._container.mux(packet)
        self._written += 1
        if self._sound is not None:
            self._sound.until(self._written / self._rate)

    def close(self) -> None:
        """Write what is still held back and close the file."""
        for packet in self._stream.encode():
            self._container.mux(packet)
        if self._sound is not None:
            # Of a clip that was broken off the sound ends with the picture.
            self._sound.until(self._written / self._rate)
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
    """A clip's sound, packed as it is, handed on beside the frames."""

    def __init__(self, into: av.container.OutputContainer, source: Path) -> None:
        self._into, self._stream = into, None
        self._source = open_clip(source, source.name)
        self._waiting: av.Packet | None = None
        self._packets: Iterator[av.Packet] = iter(())
        if self._source.streams.audio:
            found = self._source.streams.audio[0]
            try:
                self._stream = into.add_stream_from_template(found)
            except (FFmpegError, ValueError):
                return  # a kind of sound that MP4 cannot hold
            self._packets = self._source.demux(found)

    @property
    def there(self) -> bool:
        return self._stream is not None

    def until(self, seconds: float) -> None:
        """Hand on what is heard before a moment."""
        if self._stream is None:
            return
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
                packet.stream = self._stream
                self._into.mux(packet)
        except (FFmpegError, InputError):
            # Sound that is damaged from here on ends here; the frames go on.
            self._packets = iter(())

    def close(self) -> None:
        self._source.close()
