"""Starts the worker processes and starts them again should one be killed."""

import logging
import os
import subprocess
import sys
import threading
import time
from pathlib import Path

from avocet.work.job_kinds import Lane

log = logging.getLogger(__name__)

PAUSE, LONGEST_PAUSE = 1.0, 60.0
"""Seconds before a worker that ended is started again: each time twice as long, should it end at once."""

KEEPS_MEMORY = {"MALLOC_TRIM_THRESHOLD_": str(2**30), "MALLOC_MMAP_THRESHOLD_": str(2**25)}
"""Every step of a training asks for the same memory. Given back to the system in between (by glibc, where it is
the allocator), it would be cleared and mapped anew each time, which is a tenth of a step."""

STEADY = 30.0
"""A worker that lived for so many seconds did not end because of how it was started."""


class Supervisor:
    """Keeps one worker process a lane alive until it is closed.

    Parameters
    ----------
    data : Path
        The data folder that the workers serve.
    """

    def __init__(self, data: Path) -> None:
        self._data = data
        self._closing = threading.Event()
        self._processes: dict[Lane, subprocess.Popen[bytes]] = {}
        self._threads = [
            threading.Thread(target=self._keep, args=(lane,), name=f"keep-{lane}", daemon=True)
            for lane in Lane
        ]

    def start(self) -> None:
        """Start the workers."""
        for thread in self._threads:
            thread.start()

    def close(self) -> None:
        """End the workers and wait for them."""
        self._closing.set()
        for process in self._processes.values():
            process.terminate()
        for process in self._processes.values():
            try:
                process.wait(timeout=10)
            except subprocess.TimeoutExpired:
                process.kill()

    def pids(self) -> dict[Lane, int]:
        """Process number of each lane's worker."""
        return {lane: process.pid for lane, process in self._processes.items()}

    def _keep(self, lane: Lane) -> None:
        pause = PAUSE / 2
        while not self._closing.is_set():
            command = [
                sys.executable,
                "-m",
                "avocet.cli.main",
                "worker",
                "--data",
                str(self._data),
                "--parent",
                str(os.getpid()),
                "--lane",
                lane.value,
            ]
            begun = time.monotonic()
            environment = os.environ | (KEEPS_MEMORY if lane is Lane.COMPUTE else {})
            self._processes[lane] = process = subprocess.Popen(command, env=environment)
            code = process.wait()
            pause = PAUSE if time.monotonic() - begun > STEADY else min(2 * pause, LONGEST_PAUSE)
            if not self._closing.wait(pause):
                log.warning("the %s worker ended with code %s and is started again", lane, code)
