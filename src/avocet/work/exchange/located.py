"""Annotation files together with the pictures they speak of, from a folder or an archive."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from avocet.archives import is_archive, open_archive
from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.names import NameIndex
from avocet.formats.record import FoundPicture, Record, RecordedPicture
from avocet.media.pictures import SUFFIXES as PICTURE_SUFFIXES
from avocet.media.pictures import picture_size
from avocet.readable import readable
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.store.tables import Attribute
from avocet.work.exchange.project_labels import cut_boxes, fitted, says_nothing
from avocet.work.exchange.taking import Targets, take_record
from avocet.work.labels.states import BEGUN
from avocet.work.pictures.adding import Arrival, take_picture
from avocet.work.progress import Reporter, Stopped


@dataclass(frozen=True)
class Located:
    """A record whose pictures were found as files.

    Attributes
    ----------
    record : Record
        Only with the pictures that were found, of known size.
    paths : dict of str to Path
        File of each picture's name.
    problems : list of str
        What is left out.
    notes : list of str
        What is taken otherwise than the files have it.
    called : str
        The annotation files' name.
    """

    record: Record
    paths: dict[str, Path]
    problems: list[str]
    notes: list[str]
    called: str


class FolderPictures:
    """The pictures below a folder, found by name.

    Parameters
    ----------
    folder : Path

    Raises
    ------
    InputError
        If the folder does not exist.
    """

    def __init__(self, folder: Path) -> None:
        if not folder.is_dir():
            raise InputError(f"{folder}: there is no such folder")
        self.folder = folder
        found = [
            each
            for each in sorted(folder.rglob("*"))
            if each.suffix.lower() in PICTURE_SUFFIXES and each.is_file()
        ]
        self._index = NameIndex((readable(each.relative_to(folder).as_posix()), each) for each in found)

    def all_called(self, name: str) -> list[Path]:
        """Files of that name."""
        return self._index.called(name)

    def find(self, name: str) -> FoundPicture | None:
        """As formats ask for it; None where there is not exactly one that can be read."""
        found = self.all_called(name)
        if len(found) != 1:
            return None
        try:
            return FoundPicture(
                readable(found[0].relative_to(self.folder).as_posix()), *picture_size(found[0])
            )
        except InputError:
            return None


@contextmanager
def opened_labels(
    path: Path, images: Path | None, called: str | None = None
) -> Iterator[tuple[LabelFiles, FolderPictures | None]]:
    """Annotation files from a file, a folder or an archive, and the pictures beside them.

    A file that was sent goes by another name than it is stored under. Without a folder of pictures, those in the folder or archive of the annotation files are taken;
    None where there is none either. What is unpacked is gone afterwards.

    Raises
    ------
    InputError
        If a path does not exist, or the archive cannot be read.
    """
    with ExitStack() as stack:
        if is_archive(path.name):
            archive = stack.enter_context(open_archive(path, called))
            files = LabelFiles.of_archive(archive, called or path.name)
            inside = [each for each in archive.entries if Path(each.name).suffix.lower() in PICTURE_SUFFIXES]
            if images is None and inside:
                images = Path(stack.enter_context(TemporaryDirectory()))
                for each in inside:
                    target = images / each.name
                    target.parent.mkdir(parents=True, exist_ok=True)
                    archive.save(each.name, target)
        else:
            if not path.exists():
                raise InputError(f"{path}: there is no such file")
            if not path.is_dir() and not path.is_file():
                raise InputError(f"{path} is neither a file nor a folder that can be read")
            files = LabelFiles.of_path(path, called)
            if images is None and path.is_dir():
                images = path
        yield files, None if images is None else FolderPictures(images)


def locate(
    record: Record, images: FolderPictures, called: str, attributes: Sequence[Attribute] = ()
) -> Located:
    """Find a record's pictures below a folder and fit its boxes to their real size, and to what attributes hold."""
    problems, found, paths = list(record.faults), [], {}
    taken: dict[Path, str] = {}
    for picture in record.pictures:
        files = images.all_called(picture.name)
        if not files:
            problems.append(f"{called}: there is no picture {picture.name} in {images.folder}")
            continue
        if len(files) > 1:
            problems.append(f"{called}: {images.folder} holds {len(files)} pictures called {picture.name}")
            continue
        path = files[0]
        if path in taken:
            problems.append(f"{called}: {picture.name} and {taken[path]} are both {path}")
            continue
        try:
            width, height = picture_size(path, picture.name)
        except InputError as error:
            problems.append(str(error))
            continue
        taken[path] = picture.name
        found.append(fitted(picture, width, height, called, problems, attributes))
        if found[-1].says_nothing:
            problems.append(says_nothing(found[-1], called))
        paths[picture.name] = path
    notes = [*record.notes, *cut_boxes(found, called)]
    return Located(Record(record.class_names, found), paths, problems, notes, called)


def import_located(
    sessions: Sessions,
    folder: DataFolder,
    project_id: int,
    located: Located,
    reporter: Reporter,
    parts: Mapping[str, str] | None = None,
    targets: Targets | None = None,
    replace: bool = False,
) -> dict[str, int]:
    """Copy pictures into a project and take their labels over; labelled ones stay as they are unless ``replace``.

    The pictures come first, one by one: a stop keeps them, and another import goes on. Then they get
    their labels, all or none.
    """
    record = located.record
    wanted: dict[int, RecordedPicture] = {}
    labelled = 0
    for number, recorded in enumerate(record.pictures, start=1):
        if reporter.should_stop():
            raise Stopped
        path = located.paths[recorded.name]
        # The file may have a suffix that the annotation file leaves out.
        name = recorded.name if Path(recorded.name).suffix else path.name
        picture = take_picture(sessions, folder, project_id, Arrival(path, name)).picture
        if picture.state in BEGUN and not replace:
            labelled += 1
        elif not recorded.says_nothing:
            wanted[picture.id] = recorded
        reporter.progress(number, len(record.pictures), f"{number:,} of {len(record.pictures):,} pictures")
    counts = {"pictures": 0, "boxes": 0, "already_labelled": labelled}
    if wanted:
        taken = take_record(
            sessions, project_id, located.called, record, wanted, reporter, targets, replace, parts
        )
        counts |= {"pictures": taken.pictures, "boxes": taken.boxes}
    return counts
