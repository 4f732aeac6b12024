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
from avocet.work.clips.clips import take_clip
from avocet.work.job_givens import FolderToTake, SentArchive
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FileTaken, PicturesTaken
from avocet.work.pictures.adding import Arrival, Keep, take_pictures
from avocet.work.pictures.files import check_space
from avocet.work.pictures.staging import staged_files, unstage
from avocet.work.pictures.thumbnails import look_later
from avocet.work.problems import NotFound
from avocet.work.progress import Reporter, Stopped

Became = Literal["added", "already there", "clip", "refused"]

AT_ONCE, BYTES_AT_ONCE = 48, 48_000_000
"""Files taken in one go; between two of them the work can be stopped."""

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
    try:
        place = Path(path).resolve()
        if any(place.is_relative_to(root) for root in roots) and place.is_dir():
            return place
    # What no file system takes for a name: with a zero byte, or too long.
    except (ValueError, OSError):
        pass
    raise NotFound(f"{readable(path)} is not a folder that this server may read; it was started without it")


def do_folder(task: Task[FolderToTake]) -> PicturesTaken:
    """Take a folder of the server in the background."""
    given = task.given
    try:
        return take_folder(
            task.sessions, task.folder, given.project_id, Path(given.path), given.copied, task.reporter
        )
    finally:
        with task.sessions.begin() as session:
            job = None if given.copied else look_later(session, given.project_id)
        if job is not None:
            task.enqueue(job.id, job.kind)


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
    arriving = _Arriving(sessions, folder, project_id, tally, reporter, len(names))
    for given in names:
        file, name = path / given, readable(given)
        source = PurePosixPath(readable(path.name), name).parent.as_posix()
        if not file.resolve().is_relative_to(path):
            tally.add(name, "refused", f"{name} is a link that points outside of {path}")
        else:
            # Where a picture lies already, it can be used at once; what it looks like is found out later.
            keep: Keep = "copy" if copied else "in place"
            arriving.add(Arrival(file, name, source=source, keep=keep, seen="whole" if copied else "header"))
    arriving.take()
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
    arriving = _Arriving(sessions, folder, project_id, tally, reporter, 0)
    with open_archive(path, called, arriving.go_on) as archive:
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
            arriving.total = len(wanted)
            for number, entry in enumerate(wanted):
                check_space(folder, entry.size)
                file = Path(place) / f"file{number}{PurePosixPath(entry.name).suffix.lower()}"
                source = PurePosixPath(called, entry.name).parent.as_posix()
                if _unpack(archive, entry.name, file, tally):
                    arriving.add(Arrival(file, entry.name, source=source, keep="move"))
            arriving.take()
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


class _Arriving:
    """Files on their way in, taken a handful at a time: on all cores, and soon enough to be stopped."""

    def __init__(
        self,
        sessions: Sessions,
        folder: DataFolder,
        project_id: int,
        tally: _Tally,
        reporter: Reporter,
        total: int,
    ) -> None:
        self._sessions, self._folder, self._project_id = sessions, folder, project_id
        self._tally, self._reporter, self.total = tally, reporter, total
        self._waiting: list[Arrival] = []
        self._bytes = 0

    def add(self, arrival: Arrival) -> None:
        """Take a file, by itself or with those that come next. Raises `Stopped` where that was asked."""
        if Path(arrival.name).suffix.lower() in CLIP_SUFFIXES:
            self._take_clip(arrival)
            return
        self._waiting.append(arrival)
        # One that is gone meanwhile is refused with the others.
        self._bytes += arrival.path.stat().st_size if arrival.path.is_file() else 0
        if len(self._waiting) >= AT_ONCE or self._bytes >= BYTES_AT_ONCE:
            self.take()

    def take(self) -> None:
        """Take what waits."""
        self.go_on()
        arrivals, self._waiting, self._bytes = self._waiting, [], 0
        outcomes = take_pictures(self._sessions, self._folder, self._project_id, arrivals)
        for arrival, outcome in zip(arrivals, outcomes, strict=True):
            if isinstance(outcome, InputError):
                self._tally.add(arrival.name, "refused", str(outcome))
            else:
                self._tally.add(arrival.name, "added" if outcome.fresh else "already there", outcome.remark)
        self._tell()

    def _take_clip(self, arrival: Arrival) -> None:
        self.go_on()
        keep: Literal["copy", "move"] = "move" if arrival.keep == "move" else "copy"
        try:
            clip = take_clip(
                self._sessions, self._folder, self._project_id, arrival.path, arrival.name, keep=keep
            )
            self._tally.add(arrival.name, "clip", clip_id=clip.id)
        except InputError as error:
            self._tally.add(arrival.name, "refused", str(error))
        self._tell()

    def go_on(self) -> None:
        """Tell how far it is. Raises `Stopped` where that was asked."""
        self._tell()
        if self._reporter.should_stop():
            raise Stopped

    def _tell(self) -> None:
        done = sum(self._tally.counts.values())
        message = f"{done} of {self.total} files" if self.total else "Looking into the archive"
        self._reporter.progress(done, max(done, self.total, 1), message)


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
