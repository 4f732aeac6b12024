"""Files that come with a request: kept under names of our own until the work has taken them."""

import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from flask import request
from werkzeug.datastructures import FileStorage

from avocet.core.errors import InputError
from avocet.store.folder import DataFolder
from avocet.work.media import check_space
from avocet.work.staging import stage

SPARE = 200_000_000
"""Bytes that must stay free on the disk."""


def sent_files(under: str = "files") -> list[tuple[FileStorage, str]]:
    """The request's files under a field's name, each with its cleaned name.

    Raises
    ------
    InputError
        If there is none, or a name is not one that a file may have.
    """
    files = [(each, _clean(each.filename or "")) for each in request.files.getlist(under)]
    if not files:
        raise InputError("no file was sent")
    return files


def sent_file(under: str) -> tuple[FileStorage, str] | None:
    """The one file that was sent under a field's name, if any. Raises `InputError` for several."""
    if not request.files.getlist(under):
        return None
    files = sent_files(under)
    if len(files) > 1:
        raise InputError(f"{len(files)} files were sent as {under}; send one")
    return files[0]


@contextmanager
def stored(folder: DataFolder, file: FileStorage, name: str) -> Iterator[Path]:
    """Write one sent file below the data folder, and remove it afterwards."""
    check_space(folder, (request.content_length or 0) + SPARE)
    folder.incoming.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=folder.incoming) as place:
        path = Path(place) / f"file{Path(name).suffix.lower()}"
        file.save(path)
        yield path


def staged_upload(folder: DataFolder, files: Sequence[tuple[FileStorage, str]]) -> str:
    """Keep sent files for a second step; returns the token they are found by."""
    check_space(folder, (request.content_length or 0) + SPARE)
    folder.incoming.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=folder.incoming) as place:
        stored_files = []
        for number, (file, name) in enumerate(files):
            path = Path(place) / str(number)
            file.save(path)
            stored_files.append((path, name))
        return stage(folder, stored_files)


def _clean(name: str) -> str:
    """A sent name with forward slashes, kept only to be shown and matched."""
    plain = name.replace("\\", "/").lstrip("/")
    parts = plain.split("/")
    if not plain or len(plain) > 500 or ".." in parts or any(ord(letter) < 32 for letter in plain):
        raise InputError(f"{name!r} is not a name that a file may have here")
    return plain
