"""A simulated camera over the cooling belt: an endless stream of JPEGs over HTTP, which can misbehave when asked."""

import json
import random
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

import numpy as np
from PIL import Image

from avocet.demo.belt import HEIGHT, WIDTH, EndlessBelt
from avocet.media.pictures import encode_jpeg

BOUNDARY = "belt"

KEPT = 700
"""JPEGs of frames that were rendered already: a round of the belt."""


@dataclass
class Behaviour:
    """How the camera behaves; changed by whoever sends a form to ``/behaviour``.

    Attributes
    ----------
    drop : float
        Share of the frames that are left out.
    stall_until : float
        No frame is sent before this moment of the monotonic clock.
    width : int
        Of the frames sent; their height follows.
    rubbish : bool
        Bytes that are no JPEG are sent.
    shut : bool
        Streams are closed, and nobody gets a new one.
    """

    drop: float = 0.0
    stall_until: float = 0.0
    width: int = WIDTH
    rubbish: bool = False
    shut: bool = False


@dataclass
class SimulatedCamera:
    """Serves the belt as ``multipart/x-mixed-replace`` JPEGs.

    Parameters
    ----------
    port : int
        0 takes a free one.
    rate : float
        Frames a second.
    seed : int

    Attributes
    ----------
    address : str
        Of the stream.
    """

    port: int = 0
    rate: float = 12.0
    seed: int = 7
    behaviour: Behaviour = field(default_factory=Behaviour)

    def __post_init__(self) -> None:
        self._belt = EndlessBelt(self.seed)
        self._rendered: dict[tuple[int, int], bytes] = {}
        self._lock = threading.Lock()
        self._begun = time.monotonic()
        self._server = ThreadingHTTPServer(("127.0.0.1", self.port), _handler(self))
        self._server.daemon_threads = True
        self.port = self._server.server_address[1]
        self.address = f"http://127.0.0.1:{self.port}/"
        self._thread = threading.Thread(target=self._server.serve_forever, name="camera", daemon=True)

    def start(self) -> None:
        """Serve in a thread."""
        self._thread.start()

    def wait(self) -> None:
        """Serve until it is closed."""
        self._thread.join()

    def close(self) -> None:
        """Serve no more."""
        self.behaviour.shut = True
        self._server.shutdown()
        self._server.server_close()

    def change(self, wished: dict[str, list[str]]) -> dict[str, Any]:
        """Change the behaviour as a query says; what it is now. Raises `ValueError` for what cannot be."""
        now = self.behaviour
        for name, values in wished.items():
            if name == "drop":
                now.drop = min(max(float(values[-1]), 0.0), 1.0)
            elif name == "stall":
                now.stall_until = time.monotonic() + min(max(float(values[-1]), 0.0), 3600.0)
            elif name == "width":
                now.width = min(max(int(values[-1]), 64), 4 * WIDTH)
            elif name in ("rubbish", "shut"):
                setattr(now, name, values[-1] in ("1", "true", "on"))
            else:
                raise ValueError(f"a camera knows drop, stall, width, rubbish and shut, not {name!r}")
        return {
            "drop": now.drop,
            "stall": max(0.0, round(now.stall_until - time.monotonic(), 2)),
            "width": now.width,
            "rubbish": now.rubbish,
            "shut": now.shut,
        }

    def jpeg(self, number: int) -> bytes:
        """A frame as a JPEG."""
        width = self.behaviour.width
        key = (number % self._belt.frames, width)
        with self._lock:
            found = self._rendered.get(key)
            if found is None:
                pixels = self._belt.frame(number).pixels
                if width != WIDTH:
                    height = max(16, round(HEIGHT * width / WIDTH))
                    pixels = np.asarray(Image.fromarray(pixels).resize((width, height)))
                found = encode_jpeg(pixels, quality=85)
                if len(self._rendered) >= KEPT:
                    self._rendered.clear()
                self._rendered[key] = found
        return found

    def stream(self, write: Callable[[bytes], object]) -> None:
        """Send frames, each at its moment, until the camera is shut."""
        last = -1
        while not self.behaviour.shut:
            number = int((time.monotonic() - self._begun) * self.rate)
            if number == last or time.monotonic() < self.behaviour.stall_until:
                time.sleep(0.2 / self.rate)
                continue
            last = number
            if random.random() < self.behaviour.drop:
                continue
            content = bytes(2000) if self.behaviour.rubbish else self.jpeg(number)
            head = f"--{BOUNDARY}\r\nContent-Type: image/jpeg\r\nContent-Length: {len(content)}\r\n\r\n"
            write(head.encode() + content + b"\r\n")


def _handler(camera: SimulatedCamera) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        """Answers one connection."""

        def do_GET(self) -> None:
            if camera.behaviour.shut:
                self.send_error(503, "The camera is shut")
                return
            if urlsplit(self.path).path == "/still":
                number = int((time.monotonic() - camera._begun) * camera.rate)
                self._answer(camera.jpeg(number), "image/jpeg")
                return
            self.send_response(200)
            self.send_header("Content-Type", f"multipart/x-mixed-replace; boundary={BOUNDARY}")
            self.send_header("Cache-Control", "no-store")
            self.end_headers()
            try:
                camera.stream(self.wfile.write)
            except OSError:
                return  # whoever looked is gone

        def do_POST(self) -> None:
            parts = urlsplit(self.path)
            if parts.path != "/behaviour":
                self.send_error(404)
                return
            try:
                now = camera.change(parse_qs(parts.query))
            except ValueError as error:
                self.send_error(422, str(error))
                return
            self._answer(json.dumps(now).encode(), "application/json")

        def _answer(self, content: bytes, kind: str) -> None:
            self.send_response(200)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            self.wfile.write(content)

        def log_message(self, format: str, *arguments: object) -> None:
            """Say nothing of each request."""

    return Handler
