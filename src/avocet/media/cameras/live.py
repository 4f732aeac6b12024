"""Pictures of a camera as they come: always the newest, however slow whoever looks at them is."""

import threading
import time
from urllib.parse import urlsplit

import av
from av.error import ArgumentError, FFmpegError

from avocet.core.errors import InputError
from avocet.media.cameras.newest import LiveFrame, NewestFrames
from avocet.media.cameras.redirects import where_it_leads
from avocet.media.clips import LARGEST_FRAME

PROTOCOLS = {
    "rtsp": "rtsp,rtp,udp,tcp",
    "http": "http,tcp",
    "https": "https,tls,tcp,http",
}
"""What FFmpeg may open for an address that begins so: never a file."""

FORMATS = "rtsp,mpjpeg,mjpeg,mpegts,jpeg_pipe,png_pipe"
"""What a camera may send. Lists and scripts of FFmpeg would open other addresses, or themselves without end."""

DEVICES = "/dev/video"

NO_CAMERA = "what is at this address is no camera: neither MJPEG, MPEG-TS, RTSP nor a picture"

OPEN_SECONDS, READ_SECONDS = 6.0, 6.0
"""After so long without an answer, or without a frame, a camera counts as lost."""

FIRST_PAUSE, LONGEST_PAUSE = 0.5, 30.0
"""Before a camera that was lost is asked again: each time twice as long."""

STALLED = 2.0
"""Seconds without a frame after which a picture is not live."""


THIS_COMPUTER = "this computer"
"""In place of an address: a page sends the frames of its own camera."""


def check_camera(address: str) -> str:
    """An address that a camera may have, without the spaces around it.

    Raises
    ------
    InputError
        If it begins with none of what is allowed.

    Examples
    --------
    >>> check_camera(" http://127.0.0.1:8330/ ")
    'http://127.0.0.1:8330/'
    """
    found = address.strip()
    if found.startswith(DEVICES) and found[len(DEVICES) :].isdigit():
        return found
    try:
        parts = urlsplit(found)
    except ValueError:
        parts = urlsplit("")
    if parts.scheme in PROTOCOLS and parts.hostname and found.isprintable() and " " not in found:
        # FFmpeg knows protocols by small letters only.
        return parts.scheme + found[len(parts.scheme) :]
    raise InputError(
        f"{found!r} is no address of a camera: it begins with {', '.join(f'{each}://' for each in PROTOCOLS)} "
        f"or {DEVICES}"
    )


class Camera:
    """Reads a camera in a thread of its own and gives the newest frame only.

    Where the camera is lost it is opened again, after a pause that grows. One that gives a single picture
    each time is asked for the next one, twice a second.

    Parameters
    ----------
    address : str
        As `check_camera` wants it.

    Attributes
    ----------
    reconnects : int
        How often it was lost so far.
    """

    def __init__(self, address: str) -> None:
        self._address = check_camera(address)
        self._frames = NewestFrames()
        self._why = ""
        self._single = False
        self._next_try = 0.0
        self._closing = threading.Event()
        self.reconnects = 0
        self._thread = threading.Thread(target=self._run, name="camera", daemon=True)
        self._thread.start()

    def newest(self, after: int, seconds: float) -> LiveFrame | None:
        """The newest frame later than number ``after``, waited for at most so long."""
        return self._frames.newest(after, seconds)

    def state(self) -> tuple[str, str]:
        """How it stands, in a word ('connecting', 'live', 'stalled' or 'lost'), and why."""
        newest, why = self._frames.at, self._why
        if why:
            wait = max(0.0, self._next_try - time.monotonic())
            return "lost", f"{why}; tried again in {wait:.0f} s" if wait >= 1 else f"{why}; trying again"
        if newest is None:
            return "connecting", "Waiting for the first frame"
        silent = time.time() - newest
        return ("live", "") if silent < STALLED else ("stalled", f"No frame for {silent:.0f} s")

    def close(self) -> None:
        """Read no more."""
        self._closing.set()
        self._frames.close()
        self._thread.join(OPEN_SECONDS + READ_SECONDS)

    def _run(self) -> None:
        pause = FIRST_PAUSE
        while not self._closing.is_set():
            before = self._frames.number
            try:
                if self._read():
                    self._closing.wait(FIRST_PAUSE)
                    continue
                why = "the camera has ended its stream"
            except FFmpegError as error:
                why = f"the camera cannot be read: {error.strerror or type(error).__name__}"
            except InputError as error:
                why = str(error)
            except Exception as error:  # what a camera sends may upset any decoder
                why = f"the camera sends what cannot be read: {type(error).__name__}"
            if self._closing.is_set():
                return
            pause = FIRST_PAUSE if self._frames.number > before else min(2 * pause, LONGEST_PAUSE)
            self._next_try, self._why = time.monotonic() + pause, why
            self.reconnects += 1
            self._closing.wait(pause)

    def _read(self) -> bool:
        """Read to the end; whether it was a single picture."""
        with self._opened() as container:
            if not container.streams.video:
                raise InputError("what is at this address has no picture")
            stream = container.streams.video[0]
            context = stream.codec_context
            if context is not None and context.width * context.height > LARGEST_FRAME:
                raise InputError(f"frames of {context.width}×{context.height} pixels are too large")
            with self._frames.of(stream):
                for packet in container.demux(stream):
                    if self._closing.is_set():
                        return False
                    if packet.size:
                        self._why = ""
                        self._frames.arrived(packet)
            # Of what it looks at to begin with nothing is kept, unless that is all there is.
            self._single = container.format.name.endswith("_pipe")
            return self._single and not self._why

    def _opened(self) -> av.container.InputContainer:
        if self._address.startswith(DEVICES):
            return av.open(self._address, format="v4l2", timeout=(OPEN_SECONDS, READ_SECONDS))
        scheme = urlsplit(self._address).scheme
        # Little is looked at before the first frame is shown, and nothing is kept back.
        options = {
            "protocol_whitelist": PROTOCOLS[scheme],
            "format_whitelist": FORMATS,
            "analyzeduration": "500000",
        }
        if not self._single:
            options["fflags"] = "nobuffer"
        if scheme == "rtsp":
            return self._asked(self._address, options | {"rtsp_transport": "tcp"})
        options["max_redirects"] = "0"
        try:
            return self._asked(self._address, options)
        except FFmpegError:
            led = where_it_leads(self._address, OPEN_SECONDS)
            if led == self._address:
                raise
            return self._asked(led, options)

    def _asked(self, address: str, options: dict[str, str]) -> av.container.InputContainer:
        try:
            return av.open(address, options=options, timeout=(OPEN_SECONDS, READ_SECONDS))
        except ArgumentError:
            raise InputError(NO_CAMERA) from None
