"""Uploaded files that wait for a second step: looked at first, taken over when the person says so."""

import json
import os
import secrets
import shutil
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from avocet.archives import is_archive, open_archive
from avocet.core.errors import InputError
from avocet.files import is_unfinished, write_text
from avocet.formats.files import LabelFiles
from avocet.store.folder import DataFolder
from avocet.work.problems import NotFound

KEPT_SECONDS = 24 * 3600

UNFINISHED_SECONDS = 600
"""A file half written for so long is nobody's: a command may be writing one beside the server."""


def stage(folder: DataFolder, files: Sequence[tuple[Path, str]]) -> str:
    """Move files into a place of their own below the data folder; returns its token."""
    token = secrets.token_hex(12)
    place = folder.staged(token)
    place.mkdir(parents=True)
    names = []
    for number, (path, name) in enumerate(files):
        path.replace(place / str(number))
        names.append(name)
    write_text(place / "names.json", json.dumps(names))
    return token


def staged_files(folder: DataFolder, token: str) -> list[tuple[Path, str]]:
    """The files of a token with their names. Raises `NotFound` where they are gone."""
    place = folder.staged(token)
    if not token.isalnum() or not (place / "names.json").is_file():
        raise NotFound("the uploaded files are not here any more; send them again")
    names = json.loads((place / "names.json").read_text())
    return [(place / str(number), name) for number, name in enumerate(names)]


@contextmanager
def staged_labels(folder: DataFolder, token: str) -> Iterator[LabelFiles]:
    """The annotation files of a token; one archive is looked into. Raises `InputError`."""
    files = staged_files(folder, token)
    archives = [(path, name) for path, name in files if is_archive(name)]
    if not archives:
        called = files[0][1] if len(files) == 1 else f"{len(files)} files"
        yield LabelFiles.of_paths({name: path for path, name in files}, called)
        return
    if len(files) > 1:
        raise InputError(f"send one archive alone, not {archives[0][1]} with {len(files) - 1} other files")
    path, name = archives[0]
    with open_archive(path, name) as archive:
        yield LabelFiles.of_archive(archive, name)


def unstage(folder: DataFolder, token: str) -> None:
    """Remove the files of a token."""
    shutil.rmtree(folder.staged(token), ignore_errors=True)


def sweep(folder: DataFolder) -> None:
    """Remove what was on its way in or half written when a server was killed. Only while no server runs."""
    for each in folder.incoming.glob("*"):
        shutil.rmtree(each) if each.is_dir() else each.unlink(missing_ok=True)
    for place in (folder.root / "projects", folder.export(0).parent, folder.sheet(0).parent):
        for path, _, names in os.walk(place):
            for name in filter(is_unfinished, names):
                file = Path(path, name)
                if time.time() - file.stat().st_mtime > UNFINISHED_SECONDS:
                    file.unlink(missing_ok=True)


def remove_old(folder: DataFolder) -> None:
    """Remove uploads, exports and drawn sheets that nobody came back for within a day."""
    for place in (folder.staged("x").parent, folder.export(0).parent, folder.sheet(0).parent):
        for each in place.glob("*"):
            if time.time() - each.stat().st_mtime > KEPT_SECONDS:
                shutil.rmtree(each) if each.is_dir() else each.unlink(missing_ok=True)
