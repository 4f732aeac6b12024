"""The formats that are read and written, and what each of them can hold."""

import json
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import PurePosixPath

from avocet.core.errors import InputError
from avocet.formats.centre_text import read_centre_text, write_centre_text
from avocet.formats.coco import read_coco, write_coco
from avocet.formats.files import LabelFiles
from avocet.formats.json_lines import read_json_lines, write_json_lines
from avocet.formats.record import CUT_OFF, IGNORE, OCCLUDED, FindPicture, Record, find_nothing
from avocet.formats.table import Columns, read_table, write_table
from avocet.formats.voc import read_voc, write_voc
from avocet.readable import so_many


@dataclass(frozen=True)
class Format:
    """An annotation format.

    Attributes
    ----------
    key : str
        What it is called on the command line and in addresses.
    name : str
    suffixes : tuple of str
        What its files end with.
    many_files : bool
        Whether a set is more than one file, and so leaves as an archive.
    example : str
        What a box looks like in it, for those who do not know the name.
    read : callable
        From `LabelFiles` and a way to find pictures to a `Record`.
    write : callable
        From a `Record` to pairs of file name and content.
    attributes : frozenset of str, or None
        The attributes it can hold; None for all.
    crowd, tracks, fractions, unused_classes : bool
        Whether it holds regions of many objects, track numbers, corners between pixels (as
        whole-number readers of it understand them), and classes without a box.
    """

    key: str
    name: str
    suffixes: tuple[str, ...]
    many_files: bool
    example: str
    read: Callable[[LabelFiles, FindPicture], Record]
    write: Callable[[Record], Iterable[tuple[str, bytes]]]
    attributes: frozenset[str] | None = frozenset()
    crowd: bool = False
    tracks: bool = False
    fractions: bool = True
    unused_classes: bool = False


def _coco_file(record: Record) -> Iterator[tuple[str, bytes]]:
    yield "labels.json", json.dumps(write_coco(record), ensure_ascii=False).encode()


FORMATS: dict[str, Format] = {
    each.key: each
    for each in (
        Format(
            "coco", "COCO JSON", (".json",), False, '"bbox": [x, y, width, height]; one .json for all', read_coco, _coco_file,
            attributes=None, crowd=True, tracks=True, unused_classes=True,
        ),
        Format(
            "voc", "Pascal VOC XML", (".xml",), True, "<xmin> <ymin> <xmax> <ymax>; one .xml a picture", read_voc, write_voc,
            attributes=frozenset({OCCLUDED, CUT_OFF, IGNORE}), fractions=False,
        ),
        Format(
            "centre-text", "Centre-text", (".txt",), True, "class cx cy w h, in fractions of the picture; one .txt a picture", read_centre_text, write_centre_text,
            unused_classes=True,
        ),
        Format(
            "csv", "CSV", (".csv", ".tsv"), False, "picture,class,x1,y1,x2,y2; one line a box", read_table, write_table,
            tracks=True,
        ),
        Format(
            "json-lines", "JSON Lines", (".jsonl", ".ndjson"), False, '"corners": [x1, y1, x2, y2]; one line a picture', read_json_lines, write_json_lines,
            attributes=None, crowd=True, tracks=True, unused_classes=True,
        ),
    )
}  # fmt: skip


def format_called(key: str) -> Format:
    """The format of that key. Raises `InputError` naming those there are.

    Examples
    --------
    >>> format_called("voc").name
    'Pascal VOC XML'
    """
    if key not in FORMATS:
        raise InputError(f"there is no format {key!r}; there are {', '.join(FORMATS)}")
    return FORMATS[key]


def recognise(files: LabelFiles) -> Format:
    """The format of files, by what most of them end with. Raises `InputError` if it cannot be told."""
    counts = {
        key: sum(PurePosixPath(name).suffix.lower() in each.suffixes for name in files.names)
        for key, each in FORMATS.items()
    }
    best = max(counts, key=lambda key: counts[key])
    if not counts[best]:
        known = ", ".join(f"{each.name} ({each.suffixes[0]})" for each in FORMATS.values())
        raise InputError(f"{files.called} holds no annotation file that is known: {known}")
    return FORMATS[best]


@dataclass(frozen=True)
class Held:
    """What labels hold, counted: enough to say what a format cannot take.

    Attributes
    ----------
    pictures, boxes : int
    attributes : dict of str to (int, int)
        By name: boxes that have it, and those of them where it is a flag that is set.
    crowds, tracks : int
        Boxes that mark a crowd, and that have a track number.
    between : int
        Boxes with a corner between pixels.
    unused : tuple of str
        Classes without a box.
    confirmed_empty, in_progress : int
        Pictures that were confirmed to have no objects, and those that are not done and so left out.
    """

    pictures: int
    boxes: int
    attributes: dict[str, tuple[int, int]]
    crowds: int
    tracks: int
    between: int
    unused: tuple[str, ...]
    confirmed_empty: int = 0
    in_progress: int = 0


def held_by(record: Record) -> Held:
    """What a record holds, counted.

    Examples
    --------
    >>> held_by(Record(["roll"], [])).unused
    ('roll',)
    """
    boxes = [box for picture in record.pictures for box in picture.boxes]
    attributes: dict[str, tuple[int, int]] = {}
    for box in boxes:
        for name, value in box.attributes.items():
            all_of_it, flags = attributes.get(name, (0, 0))
            attributes[name] = (all_of_it + 1, flags + (value is True))
    used = {box.label for box in boxes}
    return Held(
        pictures=len(record.pictures),
        boxes=len(boxes),
        attributes=attributes,
        crowds=sum(box.crowd for box in boxes),
        tracks=sum(box.track is not None for box in boxes),
        between=sum(any(value != int(value) for value in box.corners) for box in boxes),
        unused=tuple(name for number, name in enumerate(record.class_names) if number not in used),
    )


def what_is_lost(held: Held, into: Format) -> list[str]:
    """What a format cannot hold of labels, each said with how much it touches.

    Examples
    --------
    >>> from avocet.formats.record import RecordedBox, RecordedPicture
    >>> boxes = [RecordedBox(0, (1.5, 2, 4, 6), track=3, attributes={"burnt": True})]
    >>> held = held_by(Record(["roll"], [RecordedPicture("a.jpg", 9, 9, boxes)]))
    >>> for each in what_is_lost(held, FORMATS["voc"]):
    ...     print(each)
    attribute 'burnt' of 1 box
    track of 1 box
    1 box has corners between pixels; they are written with decimals, which some readers refuse
    """
    lost: list[str] = []
    if into.attributes is not None:
        for name, (count, flags) in sorted(held.attributes.items()):
            touched = count - flags if name in into.attributes else count
            if touched:
                lost.append(f"attribute {name!r} of {_boxes(touched)}")
    if held.confirmed_empty:
        pictures = so_many(held.confirmed_empty, "picture")
        lost.append(
            f"that {pictures} {'was' if held.confirmed_empty == 1 else 'were'} confirmed to have no objects"
        )
    if held.in_progress:
        count = held.in_progress
        lost.append(f"{so_many(count, 'picture')} in progress {'is' if count == 1 else 'are'} left out")
    if held.crowds and not into.crowd:
        lost.append(f"that {_boxes(held.crowds)} {'marks' if held.crowds == 1 else 'mark'} a crowd")
    if held.tracks and not into.tracks:
        lost.append(f"track of {_boxes(held.tracks)}")
    if held.unused and not into.unused_classes:
        lost.append(f"classes without a box: {', '.join(held.unused[:10])}")
    if held.between and not into.fractions:
        verb = "has" if held.between == 1 else "have"
        lost.append(
            f"{_boxes(held.between)} {verb} corners between pixels; "
            "they are written with decimals, which some readers refuse"
        )
    return lost


def _boxes(count: int) -> str:
    return so_many(count, "box", "boxes")


def read_labels(
    files: LabelFiles,
    find: FindPicture = find_nothing,
    key: str | None = None,
    columns: Columns | None = None,
    corners: bool | None = None,
) -> tuple[Format, Record]:
    """Read annotation files in the format named, or the one they seem to have.

    Parameters
    ----------
    files : LabelFiles
    find : callable
        Tells of a picture that files name.
    key : str, optional
        Of the format.
    columns : Columns, optional
        Of a CSV file.
    corners : bool, optional
        Whether boxes of a COCO file are corners; where it is not said and they look like it, the record asks.

    Returns
    -------
    Format
    Record

    Raises
    ------
    InputError
        If they cannot be read.
    """
    form = format_called(key) if key else recognise(files)
    if form.key == "coco":
        return form, read_coco(files, find, corners)
    if form.key == "csv" and columns is not None:
        return form, read_table(files, find, columns)
    return form, form.read(files, find)
