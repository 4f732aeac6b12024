"""A process that is kept alive: started when it is wanted, and again should it end."""

import logging
import os
import threading
import time
from multiprocessing.process import BaseProcess
from typing import Any

from avocet.jobs.forking import start_process

log = logging.getLogger(__name__)

PAUSE, LONGEST_PAUSE = 1.0, 60.0
"""Seconds before a process that ended is started again: each time twice as long, should it end at once."""

STEADY = 30.0
"""A process that lived for so many seconds did not end because of how it was started."""

LAST_MOMENT = 10.0
"""Seconds that one which is known to end may take for it."""


class KeptProcess:
    """Keeps what a process of its own does going.

    Parameters
    ----------
    name : str
        What the log and the system's lists call it.
    does : str
        ``module:function`` that it does.
    arguments : tuple
        What the function is given.
    pause : float
        Seconds until it is started again after a life that was not short.
    """

    def __init__(self, name: str, does: str, arguments: tuple[Any, ...], pause: float = PAUSE) -> None:
        self._name, self._pause = name, pause
        self._does, self._arguments = does, arguments
        self._closing, self._wanted = threading.Event(), threading.Event()
        self._process: BaseProcess | None = None
        self._thread = threading.Thread(target=self._keep, name=f"keep-{name}", daemon=True)
        self._thread.start()

    @property
    def pid(self) -> int | None:
        """Number of the process, once there was one."""
        return self._process.pid if self._process is not None else None

    def want(self) -> None:
        """Somebody needs it."""
        self._wanted.set()

    def end(self) -> None:
        """Ask it to end, and start it no more."""
        self._closing.set()
        self._wanted.set()
        if self._process is not None:
            self._process.terminate()

    def wait(self) -> None:
        """Wait until it has ended, and make it end where it does not."""
        self._thread.join(timeout=10)
        if self._process is not None and self._thread.is_alive():
            self._process.kill()

    def _keep(self) -> None:
        pause = self._pause / 2
        self._wanted.wait()
        while not self._closing.is_set():
            begun = time.monotonic()
            ended = self._live()
            steady = time.monotonic() - begun > STEADY
            pause = self._pause if steady else min(max(2 * pause, PAUSE / 4), LONGEST_PAUSE)
            if not self._closing.wait(pause):
                log.warning("the process %s %s and is started again", self._name, ended)

    def _live(self) -> str:
        """Start the process and wait for its end; what became of it."""
        try:
            self._process = process = start_process(self._name, self._does, self._arguments)
        except (OSError, EOFError) as error:
            return f"could not be started ({error})"
        if self._closing.is_set():
            # Asked for in between: whoever asked ended the one before.
            process.terminate()
        process.join()
        if process.pid is not None:
            _wait_until_gone(process.pid)
        return f"ended with code {process.exitcode}"


def _wait_until_gone(pid: int) -> None:
    """Where the process that it was forked from was killed, it ends a moment after that: two must not do one's work."""
    ends = time.monotonic() + LAST_MOMENT
    while time.monotonic() < ends:
        try:
            os.kill(pid, 0)
        except ProcessLookupError:
            return
        time.sleep(0.05)
