"""Pictures by the many: from archives and from folders on the server."""

import os
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Literal

from avocet.archives import Archive, is_archive, open_archive
from avocet.core.errors import InputError
from avocet.formats.files import SUFFIXES as LABEL_SUFFIXES
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.pictures import SUFFIXES as PICTURE_SUFFIXES
from avocet.readable import readable
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.work.job_kinds import FolderToTake, SentArchive, Task
from avocet.work.job_outcomes import FileTaken, PicturesTaken
from avocet.work.pictures.adding import Arrival, Keep, take_picture
from avocet.work.pictures.clips import take_clip
from avocet.work.pictures.files import check_space
from avocet.work.pictures.staging import staged_files, unstage
from avocet.work.problems import NotFound
from avocet.work.progress import Reporter, Stopped

Became = Literal["added", "already there", "clip", "refused"]

MOST_OUTCOMES = 1000
"""Files that are named one by one in what a job reports; all are counted."""


@dataclass(frozen=True)
class ServerFolder:
    """A folder on the server, as the page sees it.

    Attributes
    ----------
    path : str
    folders : list of str
        Names of the folders in it.
    pictures : int
        Pictures in it, not counting those in its folders.
    """

    path: str
    folders: list[str]
    pictures: int


def look_into(roots: Sequence[Path], path: str) -> ServerFolder:
    """What is in a folder below one of the allowed roots. Raises `NotFound` for any other."""
    place = allowed(roots, path)
    folders, pictures = [], 0
    try:
        with os.scandir(place) as entries:
            for entry in entries:
                if entry.name.startswith("."):
                    continue
                if entry.is_dir(follow_symlinks=False):
                    folders.append(entry.name)
                elif Path(entry.name).suffix.lower() in PICTURE_SUFFIXES:
                    pictures += 1
    except OSError as error:
        raise InputError(f"{place} cannot be read: {error.strerror}") from None
    return ServerFolder(readable(str(place)), sorted(map(readable, folders)), pictures)


def allowed(roots: Sequence[Path], path: str) -> Path:
    """The real path of a folder that lies below one of the roots; `NotFound` for any other."""
    place = Path(path).resolve()
    if not any(place.is_relative_to(root) for root in roots) or not place.is_dir():
        raise NotFound(f"{path} is not a folder that this server may read; it was started without it")
    return place


def do_folder(task: Task[FolderToTake]) -> PicturesTaken:
    """Take a folder of the server in the background."""
    given = task.given
    return take_folder(
        task.sessions, task.folder, given.project_id, Path(given.path), given.copied, task.reporter
    )


def do_archive(task: Task[SentArchive]) -> PicturesTaken:
    """Take an archive that was sent, in the background; it stays while it has labels to be looked at."""
    path, name = staged_files(task.folder, task.given.token)[0]
    taken = take_archive(task.sessions, task.folder, task.given.project_id, path, name, task.reporter)
    if not taken.labels:
        unstage(task.folder, task.given.token)
    return taken


def take_folder(
    sessions: Sessions,
    folder: DataFolder,
    project_id: int,
    path: Path,
    copied: bool,
    reporter: Reporter,
) -> PicturesTaken:
    """Take all pictures and clips below a folder into the project, copied or read where they lie.

    Each is stored as soon as it is read: a stop or a kill keeps what there is, and a second run
    adds only what is missing.
    """
    names = sorted(_below(path))
    tally = _Tally()
    for number, name in enumerate(names, start=1):
        if reporter.should_stop():
            raise Stopped
        file, name = path / name, readable(name)
        source = PurePosixPath(readable(path.name), name).parent.as_posix()
        if not file.resolve().is_relative_to(path):
            tally.add(name, "refused", f"{name} is a link that points outside of {path}")
        else:
            _take(sessions, folder, project_id, file, name, source, "copy" if copied else "in place", tally)
        reporter.progress(number, len(names), f"{number} of {len(names)} files")
    return tally.summed_up()


def take_archive(
    sessions: Sessions,
    folder: DataFolder,
    project_id: int,
    path: Path,
    called: str,
    reporter: Reporter,
) -> PicturesTaken:
    """Take all pictures and clips of an archive into the project."""
    tally = _Tally()
    with open_archive(path, called) as archive:
        for fault in archive.faults:
            tally.add("", "refused", fault)
        wanted = [entry for entry in archive.entries if _is_media(entry.name)]
        for entry in archive.entries:
            if is_archive(entry.name) and not _is_hidden(entry.name):
                tally.add(
                    entry.name,
                    "refused",
                    f"{entry.name} is an archive within one; unpack it and add it by itself",
                )
        tally.labels = sum(
            PurePosixPath(entry.name).suffix.lower() in LABEL_SUFFIXES for entry in archive.entries
        )
        with tempfile.TemporaryDirectory(dir=folder.incoming) as place:
            for number, entry in enumerate(wanted, start=1):
                if reporter.should_stop():
                    raise Stopped
                check_space(folder, entry.size)
                file = Path(place) / f"file{PurePosixPath(entry.name).suffix.lower()}"
                source = PurePosixPath(called, entry.name).parent.as_posix()
                if _unpack(archive, entry.name, file, tally):
                    _take(sessions, folder, project_id, file, entry.name, source, "move", tally)
                reporter.progress(number, len(wanted), f"{number} of {len(wanted)} files")
    if not wanted and not tally.labels and not tally.files:
        raise InputError(f"{called} holds neither pictures nor clips nor annotation files")
    return tally.summed_up()


class _Tally:
    """What became of many files: counted all, named up to a limit."""

    def __init__(self) -> None:
        self.counts = {"added": 0, "already there": 0, "clip": 0, "refused": 0}
        self.files: list[FileTaken] = []
        self.labels = 0

    def add(self, name: str, outcome: Became, message: str = "", clip_id: int | None = None) -> None:
        self.counts[outcome] += 1
        if len(self.files) < MOST_OUTCOMES:
            self.files.append(FileTaken(name=name, outcome=outcome, message=message, clip_id=clip_id))

    def summed_up(self) -> PicturesTaken:
        return PicturesTaken(
            added=self.counts["added"],
            already_there=self.counts["already there"],
            clips=self.counts["clip"],
            refused=self.counts["refused"],
            labels=self.labels,
            files=self.files,
        )


def _take(
    sessions: Sessions,
    folder: DataFolder,
    project_id: int,
    file: Path,
    name: str,
    source: str,
    keep: Keep,
    tally: _Tally,
) -> None:
    try:
        if Path(name).suffix.lower() in CLIP_SUFFIXES:
            clip = take_clip(
                sessions, folder, project_id, file, name, keep="move" if keep == "move" else "copy"
            )
            tally.add(name, "clip", clip_id=clip.id)
            return
        arrival = Arrival(file, name, source="" if source == "." else source, keep=keep)
        added = take_picture(sessions, folder, project_id, arrival)
        tally.add(name, "added" if added.fresh else "already there", added.remark)
    except InputError as error:
        tally.add(name, "refused", str(error))


def _unpack(archive: Archive, name: str, file: Path, tally: _Tally) -> bool:
    try:
        archive.save(name, file)
    except InputError as error:
        tally.add(name, "refused", str(error))
        return False
    return True


def _below(path: Path) -> Iterator[str]:
    """Names of all pictures and clips below a folder; links to folders are not followed."""
    for place, folders, files in os.walk(path):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        for name in files:
            if not name.startswith(".") and _is_media(name):
                yield (Path(place) / name).relative_to(path).as_posix()


def _is_media(name: str) -> bool:
    return not _is_hidden(name) and PurePosixPath(name).suffix.lower() in PICTURE_SUFFIXES | CLIP_SUFFIXES


def _is_hidden(name: str) -> bool:
    return any(part.startswith(".") or part == "__MACOSX" for part in PurePosixPath(name).parts)
