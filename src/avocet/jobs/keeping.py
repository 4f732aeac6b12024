"""A process that is kept alive: started when it is wanted, and again should it end."""

import logging
import threading
import time
from contextlib import suppress
from multiprocessing.process import BaseProcess
from typing import Any

import psutil

from avocet.jobs.forking import start_process

log = logging.getLogger(__name__)

PAUSE, LONGEST_PAUSE = 1.0, 60.0
"""Seconds before a process that ended is started again: each time twice as long, should it end at once."""

STEADY = 30.0
"""A process that lived for so many seconds did not end because of how it was started."""

LAST_MOMENT = 10.0
"""Seconds that one which has to end may take for it before it is killed."""


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
        seen = _seen(process)
        process.join()
        if seen is not None:
            _see_it_gone(seen)
        return f"ended with code {process.exitcode}"


def _seen(process: BaseProcess) -> psutil.Process | None:
    """What tells it from a later one of the same number; nothing where it has ended already."""
    try:
        return psutil.Process(process.pid) if process.pid is not None else None
    except psutil.NoSuchProcess:
        return None


def _see_it_gone(process: psutil.Process) -> None:
    """Where the process that it was forked from was killed, it ends a moment after that: two must not do one's work."""
    ends = time.monotonic() + LAST_MOMENT
    while _does_something(process):
        if time.monotonic() > ends:
            # It may end by itself at this very moment.
            with suppress(psutil.NoSuchProcess):
                process.kill()
        time.sleep(0.05)


def _does_something(process: psutil.Process) -> bool:
    """Whether it lives; one that has ended stays in the system's list until its parent, whoever that is now, asks for it."""
    try:
        return process.status() != psutil.STATUS_ZOMBIE
    except psutil.NoSuchProcess:
        return False
