"""Servers of their own, as processes: for tests of how they start, answer and end."""

import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import psutil

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
    """Numbers of the processes that come of a process: those it has started, and those they have."""
    return [child.pid for child in psutil.Process(pid).children(recursive=True)]


def worker_of(pid: int, name: str) -> int | None:
    """Number of the worker of a server that the system's lists call so, once there is one."""
    children = psutil.Process(pid).children(recursive=True)
    return next((child.pid for child in children if child.name() == f"avocet {name}"), None)


def address_in(line: str) -> str:
    """The address in the line by which a server says where it is."""
    return next(word for word in line.split() if word.startswith("http://"))
