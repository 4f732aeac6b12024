"""Folders in which workers put down what they need: they are ended without a word, so the next one tidies up after them."""

import os
import re
import shutil
import socket
import tempfile
from pathlib import Path

import psutil

_HOST = re.sub(r"[^A-Za-z0-9]", "", socket.gethostname()) or "host"
_NAME = re.compile(rf"avocet-worker-{_HOST}-(\d+)-.*")


def worker_place() -> Path:
    """A new folder among this machine's temporary ones; those of workers that are gone are removed."""
    for path in Path(tempfile.gettempdir()).glob(f"avocet-worker-{_HOST}-*"):
        found = _NAME.fullmatch(path.name)
        if found and not psutil.pid_exists(int(found[1])):
            shutil.rmtree(path, ignore_errors=True)
    return Path(tempfile.mkdtemp(prefix=f"avocet-worker-{_HOST}-{os.getpid()}-"))
