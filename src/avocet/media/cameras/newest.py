"""Packets of a camera as they arrive, of which only what is looked at is decoded: whoever is slow is not behind for it."""

import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.media.clips import LARGEST_FRAME

LATE = 0.5
"""Seconds behind from which frames that no other frame needs are not decoded."""

FAR_BEHIND = 1.5
"""Seconds behind from which all is left out up to the next frame that can be decoded by itself."""

MOST_WAITING = 2000
"""Packets that wait to be decoded: more than a minute of a quick camera."""


@dataclass(frozen=True)
class LiveFrame:
    """A frame as it came.

    Attributes
    ----------
    number : int
        Counted from 1 since the camera was first opened.
    at : float
        When its bytes had come, in seconds of the clock on the wall.
    source : av.VideoFrame or (H, W, 3) ndarray of uint8
        Of which its pixels are made.
    """

    number: int
    at: float
    source: av.VideoFrame | NDArray[np.uint8]

    @cached_property
    def pixels(self) -> NDArray[np.uint8]:
        """(H, W, 3) uint8, made when they are first asked for."""
        if isinstance(self.source, np.ndarray):
            return self.source
        return np.asarray(self.source.to_ndarray(format="rgb24"), dtype=np.uint8)


class NewestFrames:
    """Holds what has arrived of a stream, and gives its newest frame.

    Of a stream whose frames are each packed by themselves, as of JPEGs, one is decoded when it is asked for. Of others each
    frame is needed for the next one: they are decoded as they come by a thread of their own; where that is not quick
    enough, first those that no other needs are left out, then all up to the next one that stands by itself.
    """

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._decoding = threading.Lock()
        self._number, self._at = 0, 0.0
        self._alone: av.Packet | None = None
        self._newest: LiveFrame | None = None
        self._waiting: deque[tuple[float, av.Packet]] = deque()
        self._open, self._closed = False, False
        self._fault: Exception | None = None

    @property
    def number(self) -> int:
        """Of the newest frame."""
        return self._number

    @property
    def at(self) -> float | None:
        """When the bytes of the newest frame had come; None before the first."""
        return self._at if self._number else None

    def close(self) -> None:
        """Give nothing any more."""
        with self._changed:
            self._closed = True
            self._changed.notify_all()

    @contextmanager
    def of(self, stream: av.VideoStream) -> Iterator[None]:
        """While packets of a stream arrive."""
        with self._changed:
            self._waiting.clear()
            self._alone, self._fault, self._open = None, None, True
        by_itself = stream.codec_context.codec.intra_only
        decoder = None if by_itself else threading.Thread(
            target=self._decode_all, args=(stream,), name="decoding a camera", daemon=True
        )  # fmt: skip
        if decoder is not None:
            decoder.start()
        try:
            yield
        finally:
            # Nobody decodes what belongs to a stream that is closed.
            with self._changed:
                self._open = False
                self._waiting.clear()
                self._changed.notify_all()
            with self._decoding:
                self._keep_last()
                self._alone = None
            if decoder is not None:
                decoder.join()

    def arrived(self, packet: av.Packet) -> None:
        """A packet has come. Raises what decoding an earlier one has brought up."""
        at = time.time()
        if self._fault is not None:
            raise self._fault
        context = packet.stream.codec_context
        if context.codec.intra_only:
            if context.name == "mjpeg" and bytes(memoryview(packet)[:2]) != b"\xff\xd8":
                raise InputError("the camera sends what cannot be read: no JPEG")
            with self._changed:
                self._alone, self._at, self._number = packet, at, self._number + 1
                self._changed.notify_all()
            return
        with self._changed:
            if len(self._waiting) >= MOST_WAITING:
                self._waiting.clear()
            self._waiting.append((at, packet))
            self._changed.notify_all()

    def newest(self, after: int, seconds: float) -> LiveFrame | None:
        """The newest frame later than number ``after``, waited for at most so long."""
        ends, tried = time.monotonic() + seconds, after
        while True:
            with self._changed:

                def has_come(last: int = tried) -> bool:
                    return self._closed or self._number > last

                self._changed.wait_for(has_come, max(0.0, ends - time.monotonic()))
                known = self._newest if self._newest is not None and self._newest.number > after else None
                if self._closed or self._number <= tried:
                    return known
                number, at, packet = self._number, self._at, self._alone
                if known is not None and (known.number == number or packet is None):
                    return known
            found = self._decoded_alone(number, at, packet)
            kept = self._newest
            if found is None and kept is not None and kept.number >= number:
                # Its stream was closed meanwhile; it was decoded there.
                return kept
            if found is not None:
                self._newest = found
                return found
            # It cannot be decoded, or its stream was closed meanwhile: the next one is waited for.
            tried = number

    def _decoded_alone(self, number: int, at: float, packet: av.Packet | None) -> LiveFrame | None:
        with self._decoding:
            if packet is None or self._alone is None:
                return None
            return self._decoded(number, at, packet)

    def _keep_last(self) -> None:
        """Decode the newest frame before its stream is closed: of a single picture it is the only one."""
        number, packet = self._number, self._alone
        if packet is not None and (self._newest is None or self._newest.number < number):
            self._newest = self._decoded(number, self._at, packet) or self._newest

    def _decoded(self, number: int, at: float, packet: av.Packet) -> LiveFrame | None:
        """The frame of a packet that needs no other; None where it cannot be decoded."""
        try:
            for frame in packet.decode()[-1:]:
                check_size(frame)
                return LiveFrame(number, at, frame)
        except (FFmpegError, InputError) as error:
            self._fault = error
        return None

    def _decode_all(self, stream: av.VideoStream) -> None:
        """Decode what waits, as long as the stream is open."""
        context = stream.codec_context
        skips = False
        while True:
            with self._changed:
                self._changed.wait_for(lambda: self._waiting or not self._open)
                if not self._open:
                    return
                behind = time.time() - self._waiting[0][0]
                if behind > FAR_BEHIND:
                    self._drop_to_key()
                    if not self._waiting:
                        continue
                at, packet = self._waiting.popleft()
            if (behind > LATE) != skips:
                skips = not skips
                context.skip_frame = "NONREF" if skips else "DEFAULT"
            try:
                for frame in packet.decode():
                    check_size(frame)
                    self._shown(frame, at)
            except (FFmpegError, InputError) as error:
                self._fault = error
                return

    def _drop_to_key(self) -> None:
        """Leave out what waits, but for the last frame that stands by itself and what comes after it."""
        keys = [place for place, (_, packet) in enumerate(self._waiting) if packet.is_keyframe]
        for _ in range(keys[-1] if keys else len(self._waiting)):
            self._waiting.popleft()

    def _shown(self, frame: av.VideoFrame, at: float) -> None:
        with self._changed:
            self._number, self._at = self._number + 1, at
            self._newest = LiveFrame(self._number, at, frame)
            self._changed.notify_all()


def check_size(frame: av.VideoFrame) -> None:
    """Raise `InputError` for a frame that is too large or too small to be looked at."""
    if frame.width * frame.height > LARGEST_FRAME or min(frame.width, frame.height) < 8:
        raise InputError(f"frames of {frame.width}×{frame.height} pixels cannot be read")
