"""The process that answers other programs: connects to the server, takes requests, sends replies."""

import socket
import threading
from typing import Any

from avocet.jobs.memory import limit_memory, memory_for
from avocet.jobs.standing import ANSWERER_STANDS_BACK, stand_back
from avocet.work.addresses.answering import Answerer
from avocet.work.addresses.frames import Closed, pack_frame, read_frame
from avocet.work.job_kinds import Lane


def answer(port: int, token: str) -> None:
    """Answer what comes over the link with the server, until it is closed."""
    limit_memory(memory_for(Lane.COMPUTE))
    stand_back(ANSWERER_STANDS_BACK)
    serve_link(port, token)


def serve_link(port: int, token: str) -> None:
    """Connect to a server on this machine and answer its requests until it closes the connection."""
    connection = socket.create_connection(("127.0.0.1", port), timeout=10)
    connection.settimeout(None)
    connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    connection.sendall(pack_frame({"token": token}))
    answerer, sending = Answerer(), threading.Lock()

    def replying(number: int) -> Any:
        def reply(head: dict[str, Any], body: bytes) -> None:
            with sending:
                try:
                    connection.sendall(pack_frame(head | {"id": number}, body))
                except OSError:
                    return  # the server is gone; the reading below ends too

        return reply

    try:
        while True:
            head, body = read_frame(connection)
            answerer.take(head, body, replying(head["id"]))
    except Closed:
        pass
    finally:
        answerer.close()
        connection.close()
