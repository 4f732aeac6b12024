"""Writing files so that they are there whole or not at all."""

import errno
import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from avocet.core.errors import InputError

UNFINISHED = re.compile(r"\..{0,40}-[a-z0-9_]{8}(\.\w+)?")


def is_unfinished(name: str) -> bool:
    """Whether a file is one that `replacing` had not renamed yet.

    Examples
    --------
    >>> is_unfinished(".belt-a1b2c3d4.jpg"), is_unfinished("belt-a1b2c3d4.jpg"), is_unfinished(".hidden")
    (True, False, False)
    """
    return UNFINISHED.fullmatch(name) is not None


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """Give a temporary path beside ``path`` and rename it into place if all went well.

    The temporary name keeps the suffix, since some writers choose their format by it. On any
    error what was written is removed and ``path`` stays as it was.

    Raises
    ------
    InputError
        If the disk is full or the folder cannot be written.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=f".{path.stem[:40]}-", suffix=path.suffix, dir=path.parent)
    except OSError as error:
        raise InputError(f"{path} cannot be written: {error.strerror}") from error
    os.close(handle)
    temporary = Path(name)
    try:
        yield temporary
        with temporary.open("rb+") as written:
            os.fsync(written.fileno())
        temporary.chmod(0o644)
        temporary.replace(path)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise InputError(f"{path} cannot be written: {error.strerror or error}") from error
    except BaseException:
        temporary.unlink(missing_ok=True)
        raise


def write_bytes(path: Path, content: bytes) -> None:
    """Write a whole file or nothing. Raises `InputError` as `replacing` does."""
    with replacing(path) as temporary:
        temporary.write_bytes(content)


def write_text(path: Path, content: str) -> None:
    """Write a whole UTF-8 file or nothing. Raises `InputError` as `replacing` does."""
    write_bytes(path, content.encode())


def copy_file(source: Path, path: Path) -> None:
    """Copy a file whole or not at all. Raises `InputError` as `replacing` does."""
    with replacing(path) as temporary:
        shutil.copyfile(source, temporary)


def move_file(source: Path, path: Path) -> None:
    """Move a file into place: renamed on the same disk, else copied whole. Raises `InputError`."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with source.open("rb+") as written:
            os.fsync(written.fileno())
        source.chmod(0o644)
        source.replace(path)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise InputError(f"{path} cannot be written: {error.strerror or error}") from error
        copy_file(source, path)
        source.unlink()


def safe_name(name: str) -> str:
    """A name of letters, digits and hyphens, for a file that is to be downloaded.

    Examples
    --------
    >>> safe_name("Belt 2/3")
    'Belt-2-3'
    """
    return "".join(letter if letter.isalnum() else "-" for letter in name)
