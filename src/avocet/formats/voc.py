"""Pascal VOC XML: one file a picture, corners one-based and inclusive."""

from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import PurePosixPath
from xml.etree import ElementTree

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import fromstring

from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.record import (
    CUT_OFF,
    DECIMALS,
    IGNORE,
    OCCLUDED,
    FindPicture,
    Record,
    RecordedBox,
    RecordedPicture,
    find_nothing,
    fit_box,
)
from avocet.formats.text.lines import lines_of_tags

FLAGS = {"difficult": IGNORE, "truncated": CUT_OFF, "occluded": OCCLUDED}
"""The format's own words for flags, and ours."""


def read_voc(files: LabelFiles, find: FindPicture = find_nothing) -> Record:
    """Read Pascal VOC XML files.

    ``difficult``, ``truncated`` and ``occluded`` become the flags 'ignore', 'cut off' and
    'occluded'. Classes are in alphabetical order. A file that is broken, and a box that cannot be
    used, is left out and listed in the record's faults.

    Parameters
    ----------
    files : LabelFiles
    find : callable
        Not needed: the files say all by themselves.

    Returns
    -------
    Record

    Raises
    ------
    InputError
        If there is no XML file.
    """
    names = [name for name in files.names if name.lower().endswith(".xml")]
    if not names:
        raise InputError(f"{files.called} holds no XML file")
    faults: list[str] = []
    read: list[tuple[RecordedPicture, list[tuple[str, RecordedBox]]]] = []
    seen: dict[str, str] = {}
    for name in names:
        try:
            content = files.read(name)
            root = _root(content, name)
        except InputError as error:
            faults.append(str(error))
            continue
        picture = (root.findtext("filename") or "").strip() or f"{PurePosixPath(name).stem}.jpg"
        if picture in seen:
            faults.append(f"{name}: {picture} has a file already, {seen[picture]}; that one is taken")
            continue
        seen[picture] = name
        width, height = _whole(root, "size/width"), _whole(root, "size/height")
        known = width > 0 and height > 0
        size = (width, height) if known else (0, 0)
        recorded = RecordedPicture(picture, *size, [])
        boxes, lines = [], list[int]()
        for number, each in enumerate(root.findall("object"), start=1):
            found, reason = _box(each, *size, recorded.cut)
            if found is not None:
                boxes.append(found)
                continue
            lines = lines or lines_of_tags(content, "object")
            where = f"{name}, line {lines[number - 1]}" if number <= len(lines) else name
            faults.append(f"{where}: object {number} {reason}")
            recorded.left_out.append(reason)
        read.append((recorded, boxes))
    class_names = sorted({label for _, boxes in read for label, _ in boxes})
    index = {name: number for number, name in enumerate(class_names)}
    for recorded, boxes in read:
        recorded.boxes.extend(
            RecordedBox(index[label], box.corners, False, box.attributes) for label, box in boxes
        )
    return Record(class_names, [recorded for recorded, _ in read], faults)


def write_voc(record: Record) -> Iterator[tuple[str, bytes]]:
    """A record as the names and contents of Pascal VOC XML files.

    Whole corners are written as whole numbers; corners between pixels get decimals, which some
    readers refuse.

    Parameters
    ----------
    record : Record

    Yields
    ------
    name : str
    content : bytes

    Examples
    --------
    >>> record = Record(["roll"], [RecordedPicture("a.jpg", 10, 10, [RecordedBox(0, (1, 2, 4, 6))])])
    >>> name, content = next(write_voc(record))
    >>> name, b"<xmin>2</xmin><ymin>3</ymin><xmax>4</xmax><ymax>6</ymax>" in content
    ('a.xml', True)
    """
    files = file_names([picture.name for picture in record.pictures], ".xml")
    for file, picture in zip(files, record.pictures, strict=True):
        root = ElementTree.Element("annotation")
        _put(root, "filename", picture.name)
        size = ElementTree.SubElement(root, "size")
        for name, length in (("width", picture.width), ("height", picture.height), ("depth", 3)):
            _put(size, name, str(length))
        for box in picture.boxes:
            entry = ElementTree.SubElement(root, "object")
            _put(entry, "name", record.class_names[box.label])
            for word, flag in FLAGS.items():
                _put(entry, word, str(int(box.attributes.get(flag) is True)))
            corners = ElementTree.SubElement(entry, "bndbox")
            x1, y1, x2, y2 = box.corners
            for word, value in (("xmin", x1 + 1), ("ymin", y1 + 1), ("xmax", x2), ("ymax", y2)):
                _put(corners, word, _decimal(value))
        yield file, ElementTree.tostring(root, "utf-8")


def file_names(pictures: Sequence[str], suffix: str) -> list[str]:
    """The name of each picture's own annotation file: its name with another suffix.

    Where several would share one, each keeps its own suffix before the other: so all are told apart,
    also by whoever reads them.

    Examples
    --------
    >>> file_names(["day/a.jpg", "night/a.jpg", "b.png", "b.jpg"], ".txt")
    ['day/a.txt', 'night/a.txt', 'b.png.txt', 'b.jpg.txt']
    """
    plain = [PurePosixPath(picture).with_suffix(suffix).as_posix() for picture in pictures]
    wanted = Counter(plain)
    return [
        short if wanted[short] == 1 else f"{picture}{suffix}"
        for picture, short in zip(pictures, plain, strict=True)
    ]


def _decimal(value: float) -> str:
    return f"{value:.{DECIMALS}f}".rstrip("0").rstrip(".")


def _put(parent: ElementTree.Element, name: str, text: str) -> None:
    ElementTree.SubElement(parent, name).text = text


def _root(content: bytes, name: str) -> ElementTree.Element:
    try:
        root: ElementTree.Element = fromstring(content)
    except ElementTree.ParseError as error:
        raise InputError(f"{name} is not XML: {error}") from None
    except DefusedXmlException:
        raise InputError(f"{name} defines entities of its own, which is not read") from None
    except (ValueError, LookupError) as error:
        raise InputError(f"{name} is not XML: {error}") from None
    if root.tag != "annotation":
        raise InputError(f"{name} is no Pascal VOC file: its top is <{root.tag}>, not <annotation>")
    return root


def _whole(root: ElementTree.Element, path: str) -> int:
    try:
        return int(float(root.findtext(path) or 0))
    except (ValueError, OverflowError):
        return 0


def _box(
    entry: ElementTree.Element, width: int, height: int, cut: list[float]
) -> tuple[tuple[str, RecordedBox] | None, str]:
    """The class and box of an object, or why it cannot be used; by how much it was cut is put down in ``cut``."""
    label = (entry.findtext("name") or "").strip()
    words = [(entry.findtext(f"bndbox/{word}") or "").strip() for word in ("xmin", "ymin", "xmax", "ymax")]
    if not label:
        return None, "has no name"
    try:
        x1, y1, x2, y2 = (float(word) for word in words)
    except ValueError:
        return None, f"({label}) has the corners {words}, which are not four numbers"
    corners, reason = fit_box((x1 - 1, y1 - 1, x2, y2), width, height, cut)
    if corners is None:
        return None, f"({label}) at {words} {reason}"
    flags = {
        flag: True
        for word, flag in FLAGS.items()
        if (entry.findtext(word) or "").strip().lower() in ("1", "true")
    }
    return (label, RecordedBox(0, corners, False, flags)), ""
