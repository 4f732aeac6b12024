"""A process that is kept alive: started when it is wanted, and again should it end."""

import logging
import os
import subprocess
import sys
import threading
import time
from collections.abc import Mapping, Sequence

log = logging.getLogger(__name__)

PAUSE, LONGEST_PAUSE = 1.0, 60.0
"""Seconds before a process that ended is started again: each time twice as long, should it end at once."""

STEADY = 30.0
"""A process that lived for so many seconds did not end because of how it was started."""


class KeptProcess:
    """Keeps a command of ours running in a process of its own.

    Parameters
    ----------
    name : str
        What the log calls it.
    command : sequence of str
        Behind ``avocet``; the number of this process is added, so that it ends with it.
    environment : mapping
        Beside that of this process.
    pause : float
        Seconds until it is started again after a life that was not short.
    """

    def __init__(
        self, name: str, command: Sequence[str], environment: Mapping[str, str], pause: float = PAUSE
    ) -> None:
        self._name, self._pause = name, pause
        self._command = [sys.executable, "-m", "avocet.cli.main", *command, "--parent", str(os.getpid())]
        self._environment = os.environ | environment
        self._closing, self._wanted = threading.Event(), threading.Event()
        self._process: subprocess.Popen[bytes] | None = None
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
        if self._process is None:
            return
        try:
            self._process.wait(timeout=10)
        except subprocess.TimeoutExpired:
            self._process.kill()

    def _keep(self) -> None:
        pause = self._pause / 2
        self._wanted.wait()
        while not self._closing.is_set():
            begun = time.monotonic()
            self._process = process = subprocess.Popen(self._command, env=self._environment)
            if self._closing.is_set():
                # Asked for in between: whoever asked ended the one before.
                process.terminate()
            code = process.wait()
            steady = time.monotonic() - begun > STEADY
            pause = self._pause if steady else min(max(2 * pause, PAUSE / 4), LONGEST_PAUSE)
            if not self._closing.wait(pause):
                log.warning("the process %s ended with code %s and is started again", self._name, code)
