"""Servers of their own, as processes: for tests of how they start, answer and end."""

import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

Start = Callable[..., tuple[subprocess.Popen[str], str]]


@contextmanager
def servers(data: Path) -> Iterator[Start]:
    """Starts servers on one data folder: each is its process and the first line that it says. All are ended."""
    started: list[subprocess.Popen[str]] = []

    def start(*arguments: str, **environment: str) -> tuple[subprocess.Popen[str], str]:
        command = [sys.executable, "-m", "avocet.cli.main", "serve", "--data", str(data), *arguments]
        process = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, env=os.environ | environment
        )
        started.append(process)
        assert process.stdout is not None
        return process, process.stdout.readline()

    try:
        yield start
    finally:
        # Also where a test failed: its server would take what others need.
        for process in started:
            process.kill()
            process.wait()


def children_of(pid: int) -> list[int]:
    """Numbers of the processes that a process has started."""
    command = ["ps", "-ww", "-eo", "pid,ppid"]
    listed = subprocess.run(command, capture_output=True, text=True).stdout.splitlines()[1:]
    return [int(child) for child, parent in map(str.split, listed) if int(parent) == pid]


def address_in(line: str) -> str:
    """The address in the line by which a server says where it is."""
    return next(word for word in line.split() if word.startswith("http://"))
