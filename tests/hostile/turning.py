"""Somebody who turns the pages of the grid while others harm the server, and how long each page took."""

import http.client
import multiprocessing
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from multiprocessing.connection import Connection
from multiprocessing.synchronize import Event

PAUSE = 0.05
"""Seconds between two pages."""

STOOD_STILL = 0.04
"""Seconds too late by which one who only sleeps wakes up where the machine itself stands still, as shared ones do."""


@contextmanager
def pages_turned(port: int) -> Iterator[list[tuple[float, float]]]:
    """Turn pages meanwhile; the seconds that each took, rising, and when it was asked for, are there afterwards.

    Seconds in which the machine stood still, so that not even a process woke up that only sleeps, are no page's.

    In a process of its own: one that shared the interpreter with the callers would wait for them.
    """
    spawn = multiprocessing.get_context("spawn")
    over, (told, tells) = spawn.Event(), spawn.Pipe(duplex=False)
    reader = spawn.Process(target=_turn, args=(port, over, tells), daemon=True)
    reader.start()
    tells.close()
    waits: list[tuple[float, float]] = []
    try:
        yield waits
    finally:
        over.set()
        waits += told.recv()
        reader.join()


def in_words(waits: list[tuple[float, float]]) -> str:
    """The waits in a sentence."""
    often, (slowest, when) = waits[int(0.95 * len(waits))][0], waits[-1]
    return (
        f"{len(waits)} pages: p95 {1000 * often:.0f} ms, {1000 * slowest:.0f} ms at most, after {when:.1f} s"
    )


def _turn(port: int, over: Event, tells: Connection) -> None:
    connection, begun = http.client.HTTPConnection("127.0.0.1", port, timeout=60), time.monotonic()
    pages: list[tuple[float, float]] = []
    still: list[tuple[float, float]] = []
    threading.Thread(target=_sleep, args=(still,), daemon=True).start()
    while not over.is_set():
        asked = time.monotonic()
        connection.request("GET", "/api/v1/projects/1/pictures?limit=120")
        reply = connection.getresponse()
        reply.read()
        assert reply.status == 200
        pages.append((asked, time.monotonic()))
        time.sleep(PAUSE)
    lost = [
        sum(max(0.0, min(end, until) - max(asked, since)) for since, until in still) for asked, end in pages
    ]
    tells.send(
        sorted((end - asked - less, asked - begun) for (asked, end), less in zip(pages, lost, strict=True))
    )


def _sleep(still: list[tuple[float, float]]) -> None:
    """Note when this process was not woken up in time."""
    while True:
        asleep = time.monotonic()
        time.sleep(0.005)
        if time.monotonic() - asleep > STOOD_STILL:
            still.append((asleep, time.monotonic()))
