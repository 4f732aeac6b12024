"""Annotation files in and out of a project, in two steps: look, then take over."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.kinds import Format, format_called, recognise
from avocet.formats.names import NameIndex
from avocet.formats.parts import read_parts
from avocet.formats.record import FoundPicture, Record, RecordedBox, RecordedPicture, fit_box
from avocet.formats.table import Columns, TableLook, look_at_table, read_table
from avocet.store.database import Sessions, reading
from avocet.store.tables import Change, Part, Picture, PictureState
from avocet.work.job_outcomes import ReadClass
from avocet.work.labels.boxes import NewBox
from avocet.work.labels.changes import begin_change, change_picture
from avocet.work.labels.classes import add_class, get_class, list_classes
from avocet.work.labels.states import LABELLED
from avocet.work.pictures.files import get_picture
from avocet.work.progress import Reporter, Stopped

AT_ONCE = 100
"""Pictures that are recorded in one step."""

LEFT_OUT = ""
"""As the target of a class: its boxes are not taken over."""


@dataclass(frozen=True)
class Preview:
    """What taking a file over would do.

    Attributes
    ----------
    format : str
        Key of the format.
    pictures : int
        Unlabelled pictures that would get labels.
    boxes : int
        Their boxes.
    labelled : list of str
        Pictures that have labels already; they stay as they are unless they are to be replaced.
    missing : list of str
        Pictures of the file that the project does not have.
    classes : list of ReadClass
    problems : list of str
        What would be left out, with file and line.
    table : TableLook or None
        For a CSV file: its head, and the columns that were read.
    columns : Columns or None
    """

    format: str
    pictures: int
    boxes: int
    labelled: list[str]
    missing: list[str]
    classes: list[ReadClass]
    problems: list[str]
    table: TableLook | None = None
    columns: Columns | None = None


@dataclass(frozen=True)
class Taken:
    """What was taken over, and the change by which it is taken back."""

    pictures: int
    boxes: int
    change_id: int


@dataclass
class Matched:
    """A record's pictures and the project's, brought together by name."""

    free: list[tuple[int, RecordedPicture]] = field(default_factory=list)
    labelled: list[tuple[int, RecordedPicture]] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)


class ProjectPictures:
    """The project's pictures, found by name: whole, without folders, or without suffix."""

    def __init__(self, session: Session, project_id: int) -> None:
        query = select(Picture).where(Picture.project_id == project_id, Picture.binned_at.is_(None))
        self._index = NameIndex((picture.name, picture) for picture in session.scalars(query))

    def all_called(self, name: str) -> list[Picture]:
        """Pictures of that name; more than one where folders hold pictures of one name."""
        return self._index.called(name)

    def find(self, name: str) -> FoundPicture | None:
        """As formats ask for it; None where there is not exactly one."""
        found = self.all_called(name)
        return FoundPicture(found[0].name, found[0].width, found[0].height) if len(found) == 1 else None


def read_labels(
    files: LabelFiles, here: ProjectPictures, key: str | None = None, columns: Columns | None = None
) -> tuple[Format, Record]:
    """Read annotation files in the format named, or the one they seem to have. Raises `InputError`."""
    form = format_called(key) if key else recognise(files)
    if form.key == "csv" and columns is not None:
        return form, read_table(files, here.find, columns)
    return form, form.read(files, here.find)


def preview(
    session: Session,
    project_id: int,
    files: LabelFiles,
    key: str | None = None,
    columns: Columns | None = None,
) -> Preview:
    """What taking files over into pictures that are in the project would do. Changes nothing."""
    here = ProjectPictures(session, project_id)
    form = format_called(key) if key else recognise(files)
    look = look_at_table(files) if form.key == "csv" else None
    used = columns or (look.guess if look else None)
    if look is not None and used is None:
        return Preview(form.key, 0, 0, [], [], [], [], look, None)
    _, record = read_labels(files, here, form.key, used)
    matched = pair_pictures(here, record, files.called)
    counts = [0] * len(record.class_names)
    for _, recorded in (*matched.free, *matched.labelled):
        for box in recorded.boxes:
            counts[box.label] += 1
    there = {each.name: each.id for each in list_classes(session, project_id)}
    return Preview(
        format=form.key,
        pictures=len(matched.free),
        boxes=sum(len(recorded.boxes) for _, recorded in matched.free),
        labelled=[recorded.name for _, recorded in matched.labelled],
        missing=matched.missing,
        classes=[
            ReadClass(name=name, boxes=count, class_id=there.get(name))
            for name, count in zip(record.class_names, counts, strict=True)
        ],
        problems=matched.problems,
        table=look,
        columns=used,
    )


def take_over(
    sessions: Sessions,
    project_id: int,
    files: LabelFiles,
    reporter: Reporter,
    key: str | None = None,
    columns: Columns | None = None,
    targets: Mapping[str, str | int] | None = None,
    replace: bool = False,
) -> Taken:
    """Give the project's pictures the boxes of annotation files.

    The files are read as a whole before anything is changed. A stop or a kill keeps the pictures
    that have their boxes by then; the change takes them back.

    Parameters
    ----------
    sessions : sessionmaker
    project_id : int
    files : LabelFiles
    reporter : Reporter
    key : str, optional
        The format.
    columns : Columns, optional
        For CSV.
    targets : mapping, optional
        For names of classes in the file: the id of a class here, the name of one to be made, or
        '' to leave its boxes out. Others become the class of their own name.
    replace : bool
        Also give pictures that have labels the new ones in place of theirs.

    Raises
    ------
    InputError
        If no picture fits.
    """
    with reading(sessions)() as session:
        here = ProjectPictures(session, project_id)
        _, record = read_labels(files, here, key, columns)
        matched = pair_pictures(here, record, files.called)
    wanted = matched.free + (matched.labelled if replace else [])
    if not wanted:
        raise InputError(
            f"{files.called}: none of its {len(record.pictures)} pictures is in the project without labels"
        )
    parts = read_parts(files)
    with sessions.begin() as session:
        change_id = begin_change(session, project_id, f"Labels from {files.called}").id
        ids = _class_ids(session, project_id, record, wanted, targets or {})
    boxes = 0
    for start in range(0, len(wanted), AT_ONCE):
        if reporter.should_stop():
            raise Stopped
        some = wanted[start : start + AT_ONCE]
        with sessions.begin() as session:
            change = session.get_one(Change, change_id)
            for picture_id, recorded in some:
                picture, taken = get_picture(session, picture_id), new_boxes(recorded, ids)
                change_picture(session, change, picture, taken, PictureState.DONE, by_hand=False)
                boxes += len(taken)
                if picture.part is None and recorded.name in parts:
                    picture.part = Part(parts[recorded.name])
        done = start + len(some)
        reporter.progress(done, len(wanted), f"{done} of {len(wanted)} pictures")
    return Taken(len(wanted), boxes, change_id)


def pair_pictures(here: ProjectPictures, record: Record, called: str) -> Matched:
    """Bring a record's pictures together with the project's, and fit its boxes to their real size."""
    matched = Matched(problems=list(record.faults))
    seen: dict[int, str] = {}
    for recorded in record.pictures:
        found = here.all_called(recorded.name)
        if not found:
            matched.missing.append(recorded.name)
        elif len(found) > 1:
            matched.problems.append(f"{called}: the project has {len(found)} pictures called {recorded.name}")
        elif found[0].id in seen:
            other = seen[found[0].id]
            matched.problems.append(f"{called}: {recorded.name} and {other} are both {found[0].name} here")
        else:
            picture = found[0]
            seen[picture.id] = recorded.name
            pair = (picture.id, fitted(recorded, picture.width, picture.height, called, matched.problems))
            (matched.labelled if picture.state in LABELLED else matched.free).append(pair)
    return matched


def fitted(
    picture: RecordedPicture, width: int, height: int, called: str, problems: list[str]
) -> RecordedPicture:
    """The picture with its real size and only the boxes that lie in it."""
    if picture.width and (picture.width, picture.height) != (width, height):
        problems.append(
            f"{called}: {picture.name} should have {picture.width}×{picture.height} pixels but has {width}×{height}"
        )
    boxes = []
    for box in picture.boxes:
        corners, reason = fit_box(box.corners, width, height)
        if corners is None:
            problems.append(f"{called}: a box on {picture.name} {reason}")
        else:
            boxes.append(RecordedBox(box.label, corners, box.crowd, box.attributes, box.track))
    return RecordedPicture(picture.name, width, height, boxes)


def new_boxes(recorded: RecordedPicture, class_ids: Sequence[int | None]) -> list[NewBox]:
    """A recorded picture's boxes under the classes here; those of no class are left out."""
    pairs = ((class_ids[box.label], box) for box in recorded.boxes)
    return [
        NewBox(class_id, box.corners, box.crowd, box.attributes, box.track)
        for class_id, box in pairs
        if class_id is not None
    ]


def _class_ids(
    session: Session,
    project_id: int,
    record: Record,
    wanted: Sequence[tuple[int, RecordedPicture]],
    targets: Mapping[str, str | int],
) -> list[int | None]:
    """Each class of the record as a class here; only those that are named or used are made."""
    used = {box.label for _, recorded in wanted for box in recorded.boxes}
    there = {each.name: each.id for each in list_classes(session, project_id)}
    result: list[int | None] = []
    for number, name in enumerate(record.class_names):
        target = targets.get(name, name)
        if target == LEFT_OUT:
            result.append(None)
        elif isinstance(target, int):
            result.append(get_class(session, project_id, target).id)
        elif target in there:
            result.append(there[target])
        elif number in used or not record.pictures or name not in targets:
            there[target] = add_class(session, project_id, target).id
            result.append(there[target])
        else:
            result.append(None)
    return result
