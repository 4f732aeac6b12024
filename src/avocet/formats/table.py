"""CSV: one box a line, under any column names."""

import csv
import io
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import chain, islice
from typing import Literal

from avocet.core.boxes import to_corner_size
from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.record import (
    FindPicture,
    Record,
    RecordedBox,
    RecordedPicture,
    find_nothing,
    fit_box,
)

Kind = Literal["corners", "corner and size", "bracketed"]

WORDS: dict[Kind, tuple[tuple[str, ...], ...]] = {
    "corners": (
        ("x1", "xmin", "left"),
        ("y1", "ymin", "top"),
        ("x2", "xmax", "right"),
        ("y2", "ymax", "bottom"),
    ),
    "corner and size": (
        ("x", "left", "xmin", "x1"),
        ("y", "top", "ymin", "y1"),
        ("width", "w"),
        ("height", "h"),
    ),
    "bracketed": (("bbox", "box", "boundingbox"),),
}
FIELDS: dict[Kind, tuple[str, ...]] = {
    "corners": ("x1", "y1", "x2", "y2"),
    "corner and size": ("x", "y", "width", "height"),
    "bracketed": ("box",),
}
"""What the values of a box are called."""

PICTURE_WORDS = (
    "picture",
    "filename",
    "file",
    "image",
    "imagename",
    "imageid",
    "frame",
    "framename",
    "path",
    "name",
)
CLASS_WORDS = ("class", "classname", "label", "category", "source", "kind", "type")
WIDTH_WORDS = ("picturewidth", "imagewidth", "imgwidth")
HEIGHT_WORDS = ("pictureheight", "imageheight", "imgheight")
TRACK_WORDS = ("track", "trackid", "tracknumber")
OWN = ("picture", "picture_width", "picture_height", "class")
"""How the tables begin that are written here."""

SHOWN_ROWS = 5
LOOKED_AT = 1000
"""Lines by which it is told whether boxes are in pixels."""

MOST_FRACTION = 1.5
"""Of its picture, for a box that reaches over the edge."""


@dataclass(frozen=True)
class Columns:
    """Which column of a table holds what.

    Attributes
    ----------
    picture : str
    label : str
        Column of the class; empty where all boxes are of one class.
    kind : {'corners', 'corner and size', 'bracketed'}
        ``x1, y1, x2, y2`` or ``x, y, width, height`` in four columns, or ``[x, y, width, height]``
        in one.
    values : tuple of str
        These four columns, or the one.
    fractions : bool or None
        Whether boxes are in fractions of their picture, not in pixels; None where that is not known.
    """

    picture: str
    label: str
    kind: Kind
    values: tuple[str, ...]
    fractions: bool | None = False


@dataclass(frozen=True)
class TableLook:
    """The head of a table, to choose its columns by.

    Attributes
    ----------
    header : list of str
    rows : list of list of str
        The first few lines.
    guess : Columns or None
        What its column names suggest, where they do.
    """

    header: list[str]
    rows: list[list[str]]
    guess: Columns | None


ONLY_CLASS = "object"
"""The class of all boxes in a table that has no column for it."""


def look_at_table(files: LabelFiles) -> TableLook:
    """The head of the CSV file, and a guess at its columns. Raises `InputError` if there is none."""
    _name, header, rows = _open(files)
    head = list(islice(rows, LOOKED_AT))
    guess = guess_columns(header)
    return TableLook(header, head[:SHOWN_ROWS], guess and told_fractions(header, head, guess))


def with_unit(files: LabelFiles, columns: Columns) -> Columns:
    """Columns that somebody chose, with what the first lines tell of their unit. Raises `InputError`."""
    name, header, rows = _open(files)
    _check_columns(name, header, columns)
    return told_fractions(header, list(islice(rows, LOOKED_AT)), columns)


def told_fractions(header: Sequence[str], rows: Sequence[Sequence[str]], columns: Columns) -> Columns:
    """The same columns, and whether the first lines are in fractions of their pictures or in pixels.

    No box in pixels lies within the first one and a half; where only some lines do, it stays open. What
    `write_table` writes is in pixels.

    Examples
    --------
    >>> columns = Columns("picture", "class", "corners", ("x1", "y1", "x2", "y2"))
    >>> header = ["picture", "class", "x1", "y1", "x2", "y2"]
    >>> told_fractions(header, [["a.jpg", "roll", "0.1", "0.2", "0.5", "1"]], columns).fractions
    True
    >>> told_fractions(header, [["a.jpg", "roll", "0", "0", "57", "112"]], columns).fractions
    False
    """
    if tuple(header[: len(OWN)]) == OWN:
        return replace(columns, fractions=False)
    places = [list(header).index(name) for name in columns.values]
    boxes = [
        numbers
        for row in rows
        if len(row) == len(header)
        and (numbers := _numbers([row[place].strip() for place in places])) is not None
    ]
    small = sum(max(map(abs, box)) <= MOST_FRACTION for box in boxes)
    told = False if not small else True if small == len(boxes) else None
    return replace(columns, fractions=told)


def guess_columns(header: Sequence[str]) -> Columns | None:
    """What the names of columns suggest, or None.

    Examples
    --------
    >>> guess_columns(["image_id", "width", "height", "bbox", "source"])
    Columns(picture='image_id', label='source', kind='bracketed', values=('bbox',), fractions=False)
    >>> guess_columns(["File name", "Label", "xmin", "ymin", "xmax", "ymax"]).kind
    'corners'
    """
    plain = {
        "".join(letter for letter in name.lower() if letter.isalnum()): name for name in reversed(header)
    }

    def first(words: Sequence[str]) -> str:
        return next((plain[word] for word in words if word in plain), "")

    picture = first(PICTURE_WORDS)
    for kind, groups in WORDS.items():
        values = tuple(first(words) for words in groups)
        if picture and all(values):
            return Columns(picture, first(CLASS_WORDS), kind, values)
    return None


def read_table(files: LabelFiles, find: FindPicture = find_nothing, columns: Columns | None = None) -> Record:
    """Read a CSV file with a header, separated by commas, semicolons or tabs.

    A line whose box columns are all empty says that a picture has no boxes. Lines that cannot be
    used are left out and listed in the record's faults. Classes are in order of their first box.

    Parameters
    ----------
    files : LabelFiles
    find : callable
        Finds a picture by its name; needed for fractions where no column tells its size.
    columns : Columns, optional
        Which column holds what; by default guessed from their names and first lines.

    Returns
    -------
    Record

    Raises
    ------
    InputError
        If there is no CSV file, its columns cannot be told, or whether it has pixels or fractions.
    """
    name, header, rows = _open(files)
    chosen = columns
    if chosen is None and (guess := guess_columns(header)) is not None:
        head = list(islice(rows, LOOKED_AT))
        rows = chain(head, rows)
        chosen = told_fractions(header, head, guess)
    if chosen is None:
        raise InputError(
            f"{name}: its columns ({', '.join(header)[:200]}) do not say where picture and box are"
        )
    _check_columns(name, header, chosen)
    if chosen.fractions is None:
        raise InputError(
            f"{name}: some boxes look like fractions of their picture and some like pixels; say which they are"
        )
    reader = _Rows(header, chosen, find)
    for number, row in enumerate(rows, start=2):
        reader.take(row, f"{name}, line {number}")
    return Record(list(reader.classes), list(reader.pictures.values()), reader.faults)


def write_table(record: Record, kind: Kind = "corners") -> Iterator[tuple[str, bytes]]:
    """A record as the name and content of a CSV file, with a column of track numbers where a box has one.

    Parameters
    ----------
    record : Record
    kind : {'corners', 'corner and size', 'bracketed'}

    Yields
    ------
    name : str
    content : bytes

    Examples
    --------
    >>> record = Record(["roll"], [RecordedPicture("a.jpg", 9, 9, [RecordedBox(0, (1, 2, 4, 6))])])
    >>> print(next(write_table(record, "bracketed"))[1].decode())
    picture,picture_width,picture_height,class,bbox
    a.jpg,9,9,roll,"[1.0, 2.0, 3.0, 4.0]"
    """
    names = ("bbox",) if kind == "bracketed" else FIELDS[kind]
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    tracks = any(box.track is not None for picture in record.pictures for box in picture.boxes)
    writer.writerow([*OWN, *names, *(["track"] if tracks else [])])
    for picture in record.pictures:
        start = [picture.name, picture.width, picture.height]
        if not picture.boxes:
            writer.writerow([*start, "", *[""] * (len(names) + tracks)])
            continue
        corners = [box.corners for box in picture.boxes]
        rows = corners if kind == "corners" else to_corner_size(corners).tolist()
        for box, row in zip(picture.boxes, rows, strict=True):
            cells = [str(list(row))] if kind == "bracketed" else list(row)
            number = [box.track if box.track is not None else ""] if tracks else []
            writer.writerow([*start, record.class_names[box.label], *cells, *number])
    yield "labels.csv", text.getvalue().encode()


class _Rows:
    """Turns rows into pictures with boxes."""

    def __init__(self, header: list[str], columns: Columns, find: FindPicture) -> None:
        place = {name: number for number, name in reversed(list(enumerate(header)))}
        plain = {"".join(c for c in name.lower() if c.isalnum()): number for name, number in place.items()}
        self._count = len(header)
        self._picture = place[columns.picture]
        self._label = place[columns.label] if columns.label else None
        self._values = [place[name] for name in columns.values]
        self._kind = columns.kind
        self._fractions = columns.fractions
        self._find = find
        self._size = [
            next((plain[w] for w in words if w in plain), None) for words in (WIDTH_WORDS, HEIGHT_WORDS)
        ]
        self._track = next((plain[word] for word in TRACK_WORDS if word in plain), None)
        self.classes: dict[str, int] = {}
        self.pictures: dict[str, RecordedPicture] = {}
        self.faults: list[str] = []

    def take(self, row: list[str], where: str) -> None:
        if not row:
            return
        if len(row) != self._count:
            self.faults.append(f"{where} has {len(row)} values, not {self._count}")
            return
        name = row[self._picture].strip()
        if not name:
            self.faults.append(f"{where} names no picture")
            return
        picture = self.pictures.get(name)
        if picture is None:
            width, height = (_whole(row[place]) if place is not None else 0 for place in self._size)
            known = width > 0 and height > 0
            if self._fractions and not known and (found := self._find(name)) is not None:
                width, height, known = found.width, found.height, True
            picture = RecordedPicture(name, width if known else 0, height if known else 0, [])
            self.pictures[name] = picture
        cells = [row[place].strip() for place in self._values]
        if not any(cells):
            return
        label = row[self._label].strip() if self._label is not None else ONLY_CLASS
        if not label:
            self._leave_out(picture, f"{where}: the box on {name} has no class")
            return
        numbers = _numbers(cells)
        if numbers is None:
            self._leave_out(picture, f"{where}: {', '.join(cells)[:80]!r} is not four numbers")
            return
        a, b, c, d = numbers
        corners = (a, b, c, d) if self._kind == "corners" else (a, b, a + c, b + d)
        if self._fractions:
            if not picture.width:
                self._leave_out(
                    picture, f"{where}: the size of {name} is not known, nor is there such a picture"
                )
                return
            if max(map(abs, corners)) > 2 * MOST_FRACTION:
                self._leave_out(
                    picture, f"{where}: {', '.join(cells)[:80]!r} is not in fractions of the picture"
                )
                return
            wide, high = picture.width, picture.height
            corners = (corners[0] * wide, corners[1] * high, corners[2] * wide, corners[3] * high)
        fitted, reason = fit_box(corners, picture.width, picture.height, picture.cut)
        if fitted is None:
            self._leave_out(picture, f"{where}: the box {', '.join(cells)[:80]} on {name} {reason}")
            return
        track = _track_number(row[self._track]) if self._track is not None else None
        number = self.classes.setdefault(label, len(self.classes))
        picture.boxes.append(RecordedBox(number, fitted, track=track))

    def _leave_out(self, picture: RecordedPicture, fault: str) -> None:
        self.faults.append(fault)
        picture.left_out.append(fault)


def _open(files: LabelFiles) -> tuple[str, list[str], Iterator[list[str]]]:
    names = [name for name in files.names if name.lower().endswith((".csv", ".tsv"))]
    if len(names) != 1:
        count = "no CSV file" if not names else f"{len(names)} CSV files"
        raise InputError(f"{files.called} holds {count}; a table is one file")
    text = files.text(names[0])
    head = text[: text.find("\n") if "\n" in text else len(text)]
    separator = max((",", ";", "\t"), key=head.count)
    rows = _checked(csv.reader(io.StringIO(text, newline=""), delimiter=separator), names[0])
    header = [cell.strip() for cell in next(rows, [])]
    if len(header) < 2:
        raise InputError(f"{names[0]} has no header of column names, separated by comma, semicolon or tab")
    return names[0], header, rows


def _check_columns(name: str, header: Sequence[str], columns: Columns) -> None:
    for column in (columns.picture, columns.label, *columns.values):
        if column and column not in header:
            raise InputError(f"{name} has no column {column!r}; it has {', '.join(header)[:200]}")


def _checked(rows: Iterator[list[str]], name: str) -> Iterator[list[str]]:
    number = 0
    while True:
        number += 1
        try:
            yield next(rows)
        except StopIteration:
            return
        except csv.Error as error:
            raise InputError(f"{name}, line {number}: {error}") from None


def _numbers(cells: list[str]) -> list[float] | None:
    """Four numbers from four cells, or from one in brackets."""
    try:
        if len(cells) == 1:
            found = json.loads(cells[0]) if cells[0].startswith("[") else cells[0].split()
            values = [float(value) for value in found]
        else:
            values = [float(cell) for cell in cells]
    except (ValueError, TypeError, OverflowError, RecursionError):
        return None
    return values if len(values) == 4 else None


def _track_number(text: str) -> int | None:
    """The number of an object, or None where a cell holds none."""
    try:
        number = int(text)
    except ValueError:
        return None
    return number if abs(number) < 2**62 else None


def _whole(text: str) -> int:
    try:
        return int(float(text))
    except (ValueError, OverflowError):
        return 0
