"""What goes between the server and the process that answers: a head in JSON and a body of bytes."""

import json
import socket
import struct
from typing import Any

LARGEST_HEAD, LARGEST_BODY = 10_000_000, 200_000_000

NO_PICTURE = "Not a picture"
"""Title of a refusal because of what was sent."""

_SIZES = struct.Struct(">II")


class Closed(Exception):
    """The other side is gone."""


def pack_frame(head: dict[str, Any], body: bytes = b"") -> bytes:
    """A frame as bytes.

    Examples
    --------
    >>> pack_frame({"id": 1}, b"ab")[8:]
    b'{"id": 1}ab'
    """
    said = json.dumps(head).encode()
    return _SIZES.pack(len(said), len(body)) + said + body


def read_frame(connection: socket.socket) -> tuple[dict[str, Any], bytes]:
    """The next frame. Raises `Closed` where there is none, or what comes is no frame."""
    head_size, body_size = _SIZES.unpack(_exactly(connection, _SIZES.size))
    if head_size > LARGEST_HEAD or body_size > LARGEST_BODY:
        raise Closed
    head = _exactly(connection, head_size)
    body = _exactly(connection, body_size)
    try:
        said = json.loads(head)
    except ValueError:
        raise Closed from None
    if not isinstance(said, dict):
        raise Closed
    return said, body


def _exactly(connection: socket.socket, size: int) -> bytes:
    held = bytearray()
    while len(held) < size:
        try:
            some = connection.recv(min(size - len(held), 1 << 20))
        except OSError:
            raise Closed from None
        if not some:
            raise Closed
        held += some
    return bytes(held)
