"""How long work tells how far it is, and learns that it should stop."""

import time
from collections.abc import Iterator, Sequence
from typing import Protocol, TypeVar

PAUSE = 0.01
"""Seconds between two steps, several times as long as a writer that waits sleeps."""

STEP = 0.045
"""Seconds that a step may hold the lock: well under the tenth that nobody notices to wait."""

LEAST = 4
"""A portion is not cut smaller than by this: each step has a cost of its own, whatever it writes."""

T = TypeVar("T")


class Stopped(Exception):
    """A person asked the work to stop."""


class Reporter(Protocol):
    """Told by long work how far it is."""

    def progress(self, done: int, total: int, message: str = "") -> None:
        """So many of so many are done."""

    def should_stop(self) -> bool:
        """Whether a person asked to stop."""


class Silent:
    """A reporter that nobody listens to."""

    def progress(self, done: int, total: int, message: str = "") -> None:
        """Say nothing."""

    def should_stop(self) -> bool:
        """Never asked to stop."""
        return False


SILENT = Silent()


def in_portions(
    items: Sequence[T],
    size: int,
    reporter: Reporter,
    called: str = "pictures",
    step: float = STEP,
    pause: float = PAUSE,
) -> Iterator[Sequence[T]]:
    """Portions of a long list, for steps that each hold a lock for a moment only.

    A portion has at most ``size`` items, and fewer where steps turn out to take more than ``step`` seconds:
    on a slow or busy machine others wait no longer than on a fast one. After each it is told how far
    the work is. Raises `Stopped` before the next one where that was asked.
    """
    done, fitting = 0, size
    while done < len(items):
        if done and pause:
            # Whoever waits for the lock gets it here.
            time.sleep(pause)
        if reporter.should_stop():
            raise Stopped
        some = items[done : done + fitting]
        begun = time.monotonic()
        yield some
        took = max(time.monotonic() - begun, 1e-6)
        done += len(some)
        fitting = max(1, min(size, max(size // LEAST, int(len(some) * min(step / took, 2)))))
        reporter.progress(done, len(items), f"{done:,} of {len(items):,} {called}")
