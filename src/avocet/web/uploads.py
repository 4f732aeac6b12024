"""Files that come with a request: written once, straight into the data folder, and hashed on the way."""

import hashlib
import os
import tempfile
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import IO, Any

from flask import Flask, Request, g, request
from werkzeug.datastructures import FileStorage

from avocet.core.errors import InputError
from avocet.readable import is_readable, readable
from avocet.store.folder import DataFolder
from avocet.web.context import context
from avocet.work.pictures.files import check_space

SPARE = 200_000_000
"""Bytes that must stay free on the disk."""


@dataclass(frozen=True)
class ArrivedFile:
    """A file that came with the request, under a name of our own in the data folder's place for arrivals.

    Whoever takes it moves it to where it belongs; what nobody takes is removed with the request.

    Attributes
    ----------
    path : Path
    name : str
        What its sender calls it, cleaned: to be shown and matched only.
    digest : str
        SHA-256 of its bytes, in hexadecimal.
    fault : str
        What is wrong with the name, if anything; then it is shown with escapes and nothing is to be made of it.
    """

    path: Path
    name: str
    digest: str
    fault: str = ""


class _Arriving:
    """The stream that the form parser writes a file to."""

    def __init__(self, folder: DataFolder, name: str) -> None:
        folder.incoming.mkdir(parents=True, exist_ok=True)
        suffix = PurePosixPath(name.replace("\\", "/")).suffix.lower()[:10]
        handle, path = tempfile.mkstemp(prefix="sent-", suffix=suffix, dir=folder.incoming)
        self._file: IO[bytes] = os.fdopen(handle, "w+b")
        self.path, self.hash = Path(path), hashlib.sha256()

    def write(self, content: bytes) -> int:
        self.hash.update(content)
        return self._file.write(content)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


def accept_uploads(app: Flask) -> None:
    """Let the application's requests write their files into its data folder."""

    class ArrivingRequest(Request):
        def _get_file_stream(
            self,
            total_content_length: int | None,
            content_type: str | None,
            filename: str | None = None,
            content_length: int | None = None,
        ) -> IO[bytes]:
            folder = context().folder
            try:
                check_space(folder, (total_content_length or 0) + SPARE)
            except InputError as error:
                # The form parser passes over a ValueError, as if nothing had been sent.
                g.refused = error
                raise
            arriving = _Arriving(folder, filename or "")
            g.setdefault("arriving", []).append(arriving)
            return arriving  # type: ignore[return-value]

    app.request_class = ArrivingRequest

    @app.teardown_request
    def remove_what_nobody_took(_error: BaseException | None) -> None:
        for arriving in g.pop("arriving", []):
            arriving.close()
            arriving.path.unlink(missing_ok=True)


def arrived_files(under: str = "files") -> list[ArrivedFile]:
    """The request's files under a field's name, also those with a name that no file may have.

    Raises
    ------
    InputError
        If there is none, or the disk has no room for them.
    """
    files = [_arrived(each) for each in request.files.getlist(under)]
    if "refused" in g:
        raise g.refused
    if not files:
        raise InputError("no file was sent")
    return files


def sent_files(under: str = "files") -> list[ArrivedFile]:
    """The request's files under a field's name, where they belong together.

    Raises
    ------
    InputError
        As `arrived_files`, and if a name is not one that a file may have.
    """
    files = arrived_files(under)
    for each in files:
        if each.fault:
            raise InputError(each.fault)
    return files


def sent_file(under: str) -> ArrivedFile | None:
    """The one file that was sent under a field's name, if any. Raises `InputError` for several."""
    if not request.files.getlist(under) and "refused" not in g:
        return None
    files = sent_files(under)
    if len(files) > 1:
        raise InputError(f"{len(files)} files were sent as {under}; send one")
    return files[0]


def _arrived(file: FileStorage) -> ArrivedFile:
    arriving = file.stream
    assert isinstance(arriving, _Arriving)
    arriving.flush()
    given = file.filename or ""
    try:
        return ArrivedFile(arriving.path, _clean(given), arriving.hash.hexdigest())
    except InputError as error:
        return ArrivedFile(arriving.path, readable(given)[:100], arriving.hash.hexdigest(), str(error))


def _clean(name: str) -> str:
    """A sent name with forward slashes, kept only to be shown and matched."""
    plain = name.replace("\\", "/").lstrip("/")
    parts = plain.split("/")
    if not plain or len(plain) > 500 or ".." in parts or not is_readable(plain):
        raise InputError(f"{readable(name)[:100]!r} is not a name that a file may have here")
    return plain
