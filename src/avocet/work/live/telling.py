"""What live work tells and is told, by a thread of its own: looking never waits for a disk that is busy or full."""

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.exc import OperationalError

from avocet.work.live.showing import OF_A_PICTURE, Shown
from avocet.work.progress import Reporter

LOOK_EVERY = 0.5
"""Seconds between two looks at whether to stop, and at what a person wishes."""


class Telling:
    """Writes what is shown, reports progress, and reads what a person wishes.

    Only the newest that is to be shown is kept: where the disk is slower than what comes, the others are left out.

    Parameters
    ----------
    shown : Shown
    reporter : Reporter
    reported : callable
        Gives how many pictures are done, of how many, and what is to be said of them.

    Attributes
    ----------
    wishes : dict
        As last read.
    stopped : bool
        Whether somebody asked to stop, as last read.
    """

    def __init__(
        self, shown: Shown, reporter: Reporter, reported: Callable[[], tuple[int, int, str]]
    ) -> None:
        self._shown, self._reporter, self._reported = shown, reporter, reported
        self.wishes: dict[str, Any] = {}
        self.stopped = False
        self._changed = threading.Condition()
        self._newest: tuple[dict[str, Any], NDArray[np.uint8] | None] | None = None
        self._closed = False
        self._fault: Exception | None = None
        self._thread = threading.Thread(target=self._tell, name="telling", daemon=True)
        self._thread.start()

    def show(self, said: dict[str, Any], pixels: NDArray[np.uint8] | None) -> None:
        """Show this next, in place of what still waits. Raises what telling ended with.

        The pixels are not changed any more. Without them the picture that still waits is shown.
        """
        if self._fault is not None:
            raise self._fault
        with self._changed:
            if pixels is None and self._newest is not None:
                before, pixels = self._newest
                said = {name: before[name] for name in OF_A_PICTURE if name in before} | said
            self._newest = said, pixels
            self._changed.notify_all()

    def close(self) -> None:
        """Show what still waits, and end."""
        with self._changed:
            self._closed = True
            self._changed.notify_all()
        self._thread.join()

    def _tell(self) -> None:
        looked_at = float("-inf")
        try:
            while True:
                with self._changed:
                    self._changed.wait_for(lambda: self._newest is not None or self._closed, LOOK_EVERY)
                    newest, self._newest = self._newest, None
                if newest is not None:
                    self._shown.show(*newest)
                elif self._closed:
                    return
                if time.monotonic() - looked_at >= LOOK_EVERY:
                    looked_at = time.monotonic()
                    self._look()
        except Exception as error:
            self._fault = error

    def _look(self) -> None:
        self.wishes = self._shown.wishes()
        # A full disk or a locked database refuses it now and takes it later.
        with suppress(OperationalError, OSError):
            self._reporter.progress(*self._reported())
        self.stopped = self._reporter.should_stop()
