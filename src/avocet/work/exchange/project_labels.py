"""What annotation files hold for a project's pictures: read, paired, and shown before it is taken over."""

from collections.abc import Container, Sequence
from dataclasses import dataclass, field, replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.kinds import format_called, read_labels, recognise
from avocet.formats.names import NameIndex, told_apart
from avocet.formats.record import FoundPicture, Record, RecordedPicture, fit_box
from avocet.formats.table import Columns, TableLook, look_at_table
from avocet.readable import so_many
from avocet.store.tables import Attribute, Picture
from avocet.work.job_outcomes import ReadClass
from avocet.work.labels.attributes import list_attributes, values_outside
from avocet.work.labels.boxes import MOST_BOXES, sorted_attributes
from avocet.work.labels.classes import check_name, list_classes
from avocet.work.labels.states import BEGUN


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
    notes : list of str
        What would be taken otherwise than the file has it.
    asks : str
        A question that has to be answered first; empty where there is none.
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
    notes: list[str] = field(default_factory=list)
    asks: str = ""
    table: TableLook | None = None
    columns: Columns | None = None


@dataclass
class Matched:
    """A record's pictures and the project's, brought together by name."""

    free: list[tuple[int, RecordedPicture]] = field(default_factory=list)
    labelled: list[tuple[int, RecordedPicture]] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


class ProjectPictures:
    """The project's pictures, found by name: whole, without folders, or without suffix."""

    def __init__(self, session: Session, project_id: int) -> None:
        query = select(Picture).where(Picture.project_id == project_id, Picture.binned_at.is_(None))
        pictures = session.scalars(query).all()
        # Those that share a name go out under names of their own, and are found by them again.
        names = told_apart([(picture.name, picture.content_hash) for picture in pictures])
        self.attributes = list_attributes(session, project_id)
        self._own = {picture.id: own for own, picture in zip(names, pictures, strict=True)}
        self._index = NameIndex(
            (name, picture)
            for own, picture in zip(names, pictures, strict=True)
            for name in dict.fromkeys((picture.name, own))
        )

    def all_called(self, name: str) -> list[Picture]:
        """Pictures of that name; more than one where folders hold pictures of one name."""
        return self._index.called(name)

    def find(self, name: str) -> FoundPicture | None:
        """As formats ask for it; None where there is not exactly one."""
        found = self.all_called(name)
        return (
            FoundPicture(self._own[found[0].id], found[0].width, found[0].height) if len(found) == 1 else None
        )


def preview(
    session: Session,
    project_id: int,
    files: LabelFiles,
    key: str | None = None,
    columns: Columns | None = None,
    corners: bool | None = None,
) -> Preview:
    """What taking files over into pictures that are in the project would do. Changes nothing."""
    here = ProjectPictures(session, project_id)
    form = format_called(key) if key else recognise(files)
    look = look_at_table(files) if form.key == "csv" else None
    used = columns or (look.guess if look else None)
    if look is not None and (used is None or used.fractions is None):
        return Preview(form.key, 0, 0, [], [], [], [], table=look, columns=used)
    _, record = read_labels(files, here.find, form.key, used, corners)
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
        problems=[*matched.problems, *unusable_names(record, there)],
        # What would be cut is not said of boxes that may have been read wrongly.
        notes=[] if record.asks else matched.notes,
        asks=record.asks,
        table=look,
        columns=used,
    )


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
            size = (picture.width, picture.height)
            pair = (picture.id, fitted(recorded, *size, called, matched.problems, here.attributes))
            if pair[1].says_nothing:
                matched.problems.append(says_nothing(pair[1], called))
                continue
            (matched.labelled if picture.state in BEGUN else matched.free).append(pair)
    pictures = [each for _, each in (*matched.free, *matched.labelled)]
    matched.notes = [*record.notes, *cut_boxes(pictures, called)]
    return matched


def cut_boxes(pictures: Sequence[RecordedPicture], called: str) -> list[str]:
    """What is said of boxes that reach over the border of their picture by more than a pixel."""
    cut = [each.cut for each in pictures if each.cut]
    if not cut:
        return []
    boxes, most = sum(map(len, cut)), max(map(max, cut))
    verb, rest = ("reaches", "is") if boxes == 1 else ("reach", "are")
    return [
        f"{called}: {so_many(boxes, 'box', 'boxes')} on {so_many(len(cut), 'picture')} {verb} over the border, by up to "
        f"{most:,.0f} pixels, and {rest} cut to the picture"
    ]


def fitted(
    picture: RecordedPicture,
    width: int,
    height: int,
    called: str,
    problems: list[str],
    attributes: Sequence[Attribute] = (),
) -> RecordedPicture:
    """The picture with its real size, and of its boxes what can be kept; the rest is said in ``problems``."""
    if picture.width and (picture.width, picture.height) != (width, height):
        problems.append(
            f"{called}: {picture.name} should have {picture.width}×{picture.height} pixels but has {width}×{height}"
        )
    boxes, left_out, cut = [], list(picture.left_out), list(picture.cut)
    for box in picture.boxes:
        corners, reason = fit_box(box.corners, width, height, cut)
        if corners is None:
            problems.append(f"{called}: a box on {picture.name} {reason}")
            left_out.append(reason)
            continue
        if not box.attributes:
            boxes.append(box if corners == box.corners else replace(box, corners=corners))
            continue
        kept, refused = sorted_attributes(box.attributes)
        problems += [f"{called}: a box on {picture.name} is taken without {each}" for each in refused]
        for name, words in values_outside(attributes, kept):
            problems.append(f"{called}: a box on {picture.name} is taken without {words}")
            del kept[name]
        boxes.append(replace(box, corners=corners, attributes=kept))
    if len(boxes) > MOST_BOXES:
        problems.append(
            f"{called}: {picture.name} has {len(boxes):,} boxes; the first {MOST_BOXES:,} are taken"
        )
    return RecordedPicture(picture.name, width, height, boxes[:MOST_BOXES], left_out, cut)


def says_nothing(picture: RecordedPicture, called: str) -> str:
    """That no box of a picture can be used, in words: it must not pass for one without objects."""
    count = len(picture.left_out)
    boxes = "its one box" if count == 1 else f"none of its {count:,} boxes"
    return f"{called}: {picture.name} stays as it is, as {boxes} can{'not' if count == 1 else ''} be used"


def unusable_names(record: Record, there: Container[str]) -> list[str]:
    """What is wrong with class names that are new here; such a class needs another name to be taken over."""
    problems = []
    for name in record.class_names:
        if name not in there:
            try:
                check_name(name)
            except InputError as error:
                problems.append(f"{error}; choose another for it")
    return problems
