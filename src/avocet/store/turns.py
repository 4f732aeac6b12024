"""Turns: whoever waits first is served first."""

import threading
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager


class Turns:
    """A lock that is handed on in the order in which it was asked for.

    Without an order, whoever happens to ask at the right moment gets it, and beside many that ask again
    and again one may wait for seconds.
    """

    def __init__(self) -> None:
        self._guard, self._taken = threading.Lock(), False
        self._waiting: deque[threading.Lock] = deque()

    @contextmanager
    def turn(self) -> Iterator[None]:
        """Hold the lock."""
        mine = threading.Lock()
        mine.acquire()
        with self._guard:
            if self._taken:
                self._waiting.append(mine)
            else:
                self._taken = True
                mine.release()
        mine.acquire()
        try:
            yield
        finally:
            with self._guard:
                if self._waiting:
                    self._waiting.popleft().release()
                else:
                    self._taken = False
