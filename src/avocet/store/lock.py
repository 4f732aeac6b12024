"""One server a data folder."""

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager

from avocet.core.errors import InputError
from avocet.store.folder import DataFolder


def is_served(folder: DataFolder) -> bool:
    """Whether a server holds a data folder now; nothing is changed by asking."""
    try:
        handle = os.open(folder.lock, os.O_RDONLY)
    except OSError:
        return False
    try:
        fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    finally:
        os.close(handle)
    return False


@contextmanager
def only_server(folder: DataFolder) -> Iterator[None]:
    """Hold a data folder for this process: two servers would take up the same jobs twice.

    The lock goes with the process, however it ends. Raises `InputError` where another server has it.
    """
    try:
        folder.root.mkdir(parents=True, exist_ok=True)
        handle = os.open(folder.lock, os.O_RDWR | os.O_CREAT, 0o644)
    except OSError as error:
        raise InputError(f"the data folder {folder.root} cannot be opened: {error.strerror}") from None
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            process = os.read(handle, 20).decode("ascii", "replace").strip() or "another process"
            raise InputError(
                f"{folder.root} is served already, by process {process}. End it, or choose another data folder."
            ) from None
        os.ftruncate(handle, 0)
        os.write(handle, str(os.getpid()).encode())
        yield
    finally:
        os.close(handle)
