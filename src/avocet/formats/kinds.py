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
from avocet.formats.record import CUT_OFF, IGNORE, OCCLUDED, FindPicture, Record
from avocet.formats.table import read_table, write_table
from avocet.formats.voc import read_voc, write_voc


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
            "coco", "COCO JSON", (".json",), False, read_coco, _coco_file,
            attributes=None, crowd=True, tracks=True, unused_classes=True,
        ),
        Format(
            "voc", "Pascal VOC XML", (".xml",), True, read_voc, write_voc,
            attributes=frozenset({OCCLUDED, CUT_OFF, IGNORE}), fractions=False,
        ),
        Format(
            "centre-text", "Centre-text", (".txt",), True, read_centre_text, write_centre_text,
            unused_classes=True,
        ),
        Format("csv", "CSV", (".csv", ".tsv"), False, read_table, write_table),
        Format(
            "json-lines", "JSON Lines", (".jsonl", ".ndjson"), False, read_json_lines, write_json_lines,
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


def what_is_lost(record: Record, into: Format) -> list[str]:
    """What a format cannot hold of a record, each said with how much it touches.

    Examples
    --------
    >>> from avocet.formats.record import RecordedBox, RecordedPicture
    >>> boxes = [RecordedBox(0, (1.5, 2, 4, 6), track=3, attributes={"burnt": True})]
    >>> for each in what_is_lost(Record(["roll"], [RecordedPicture("a.jpg", 9, 9, boxes)]), FORMATS["voc"]):
    ...     print(each)
    attribute 'burnt' of 1 box
    track of 1 box
    1 box has corners between pixels; they are written with decimals, which some readers refuse
    """
    boxes = [box for picture in record.pictures for box in picture.boxes]
    lost: list[str] = []
    if into.attributes is not None:
        names: dict[str, int] = {}
        for box in boxes:
            for name, value in box.attributes.items():
                if name not in into.attributes or value is not True:
                    names[name] = names.get(name, 0) + 1
        lost += [f"attribute {name!r} of {_boxes(count)}" for name, count in sorted(names.items())]
    crowds, tracks = sum(box.crowd for box in boxes), sum(box.track is not None for box in boxes)
    if crowds and not into.crowd:
        lost.append(f"that {_boxes(crowds)} {'marks' if crowds == 1 else 'mark'} a crowd")
    if tracks and not into.tracks:
        lost.append(f"track of {_boxes(tracks)}")
    if not into.unused_classes:
        used = {box.label for box in boxes}
        unused = [name for number, name in enumerate(record.class_names) if number not in used]
        if unused:
            lost.append(f"classes without a box: {', '.join(unused[:10])}")
    if not into.fractions:
        between = sum(any(value != int(value) for value in box.corners) for box in boxes)
        if between:
            verb = "has" if between == 1 else "have"
            lost.append(
                f"{_boxes(between)} {verb} corners between pixels; "
                "they are written with decimals, which some readers refuse"
            )
    return lost


def _boxes(count: int) -> str:
    return f"{count:,} {'box' if count == 1 else 'boxes'}"
