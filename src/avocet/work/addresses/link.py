"""The server's side of the process that answers: requests go there, replies come back, a killed one loses none."""

import contextlib
import hmac
import itertools
import secrets
import socket
import threading
from concurrent.futures import Future
from dataclasses import dataclass, field
from typing import Any

from avocet.work.addresses.frames import Closed, pack_frame, read_frame

MOST_TRIES = 2
"""A request during which the process died twice is what kills it."""

Reply = tuple[dict[str, Any], bytes]


class Unanswerable(Exception):
    """The process that answers cannot answer this."""


@dataclass
class _Waiting:
    head: dict[str, Any]
    body: bytes
    future: "Future[Reply]" = field(default_factory=Future)
    tries: int = 0


class AnswerLink:
    """Waits for the process that answers and hands it requests.

    Attributes
    ----------
    port : int
        On the loopback address, where the process connects.
    token : str
        What it says first, so that nobody else can take its place.
    """

    def __init__(self) -> None:
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port: int = self._listener.getsockname()[1]
        self.token = secrets.token_hex(24)
        self._numbers = itertools.count(1)
        self._waiting: dict[int, _Waiting] = {}
        self._connection: socket.socket | None = None
        self._lock = threading.Lock()
        self._sending = threading.Lock()
        self._closing = False
        self._thread = threading.Thread(target=self._accept, name="answer-link", daemon=True)
        self._thread.start()

    @property
    def waiting(self) -> int:
        """Requests that have no reply yet."""
        return len(self._waiting)

    @property
    def held(self) -> int:
        """Bytes of their bodies."""
        with self._lock:
            return sum(len(each.body) for each in self._waiting.values())

    @property
    def connected(self) -> bool:
        return self._connection is not None

    def ask(self, head: dict[str, Any], body: bytes = b"") -> "Future[Reply]":
        """Hand over a request; the future gets the reply.

        Where there is no process just now the request waits for the next one. A future that is cancelled
        is forgotten.
        """
        waiting = _Waiting(head, body)
        with self._lock:
            number = next(self._numbers)
            self._waiting[number] = waiting
            connection = self._connection
        waiting.future.add_done_callback(lambda _: self._forget(number))
        if connection is not None:
            self._send(connection, number, waiting)
        return waiting.future

    def close(self) -> None:
        """Let nobody connect any more; what waits fails."""
        self._closing = True
        self._listener.close()
        with contextlib.suppress(OSError):
            if self._connection is not None:
                self._connection.shutdown(socket.SHUT_RDWR)
        for each in list(self._waiting.values()):
            _fail(each, "the server is closing")

    def _forget(self, number: int) -> None:
        with self._lock:
            self._waiting.pop(number, None)

    def _accept(self) -> None:
        while not self._closing:
            try:
                connection, _ = self._listener.accept()
            except OSError:
                return
            connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            connection.settimeout(5)
            try:
                head, _ = read_frame(connection)
            except Closed:
                connection.close()
                continue
            if not hmac.compare_digest(str(head.get("token", "")), self.token):
                connection.close()
                continue
            connection.settimeout(None)
            with self._lock:
                self._connection = connection
                left = sorted(self._waiting.items())
            for number, waiting in left:
                if waiting.tries >= MOST_TRIES:
                    _fail(waiting, "the process that answers died of this request")
                else:
                    self._send(connection, number, waiting)
            threading.Thread(target=self._listen, args=(connection,), name="answers", daemon=True).start()

    def _send(self, connection: socket.socket, number: int, waiting: _Waiting) -> None:
        waiting.tries += 1
        frame = pack_frame(waiting.head | {"id": number}, waiting.body)
        with self._sending, contextlib.suppress(OSError):
            # Where it is gone the next one gets it.
            connection.sendall(frame)

    def _listen(self, connection: socket.socket) -> None:
        try:
            while True:
                head, body = read_frame(connection)
                with self._lock:
                    waiting = self._waiting.get(head.pop("id", 0))
                if waiting is not None and not waiting.future.done():
                    with contextlib.suppress(Exception):  # cancelled meanwhile
                        waiting.future.set_result((head, body))
        except Closed:
            with self._lock:
                if self._connection is connection:
                    self._connection = None
            connection.close()


def _fail(waiting: _Waiting, why: str) -> None:
    with contextlib.suppress(Exception):  # cancelled or answered meanwhile
        waiting.future.set_exception(Unanswerable(why))
