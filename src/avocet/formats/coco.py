"""COCO JSON: detection annotations, ``bbox`` as ``[x, y, width, height]``."""

import json
from dataclasses import dataclass
from typing import Any

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
    origin_in,
)
from avocet.formats.text.json_text import parse_json
from avocet.formats.text.lines import lines_of_entries


def read_coco(files: LabelFiles, find: FindPicture = find_nothing) -> Record:
    """Read a COCO JSON file.

    Classes keep the file's order of category ids. Boxes that reach over an edge are cut to the
    picture; entries that cannot be used are left out and listed in the record's faults.

    Parameters
    ----------
    files : LabelFiles
        With one JSON file among them.
    find : callable
        Not needed: the file says all by itself.

    Returns
    -------
    Record

    Raises
    ------
    InputError
        If there is no JSON file or several, or it is not JSON or not built like a COCO file.
    """
    found = [name for name in files.names if name.lower().endswith(".json")]
    if len(found) != 1:
        count = "no JSON file" if not found else f"{len(found)} JSON files"
        raise InputError(f"{files.called} holds {count}; a COCO set is one JSON file")
    content = files.read(found[0])
    return parse_coco(parse_json(content, found[0], "a COCO file"), found[0], content)


def parse_coco(document: Any, called: str, content: bytes = b"") -> Record:
    """As `read_coco`, from an already parsed document; with the bytes it came from faults name lines.

    Examples
    --------
    >>> record = parse_coco({
    ...     "images": [{"id": 1, "file_name": "belt.jpg", "width": 960, "height": 540}],
    ...     "categories": [{"id": 7, "name": "roll"}],
    ...     "annotations": [{"id": 1, "image_id": 1, "category_id": 7, "bbox": [10, 20, 30, 40]}],
    ... }, "truth.json")
    >>> record.pictures[0].boxes[0].corners
    (10.0, 20.0, 40.0, 60.0)
    """
    if not isinstance(document, dict):
        raise InputError(f"{called} is not a COCO file: its top is not an object")
    for key in ("images", "annotations", "categories"):
        if not isinstance(document.get(key), list):
            raise InputError(f'{called} is not a COCO file: it has no list "{key}"')
    faults: list[str] = []
    class_names, label_of = _categories(document["categories"], called)
    pictures, picture_of = _images(document["images"], called, faults)
    wrong: dict[int, str] = {}
    for number, entry in enumerate(document["annotations"]):
        fault = _add_box(entry, number, pictures, picture_of, label_of)
        if fault:
            wrong[number] = fault
            image_id = entry.get("image_id") if isinstance(entry, dict) else None
            if not isinstance(image_id, list | dict) and image_id in picture_of:
                picture_of[image_id].left_out.append(fault)
    lines = _lines(content, wrong) if wrong and content else {}
    for number, fault in wrong.items():
        faults.append(f"{called}, line {lines[number]}: {fault}" if number in lines else f"{called}: {fault}")
    return Record(class_names, pictures, faults)


@dataclass(frozen=True)
class CocoIds:
    """How a COCO file numbers its pictures and classes, as results files refer to them.

    Attributes
    ----------
    images : dict of int or str to str
        Name of each picture.
    categories : dict of int to str
        Name of each class.
    """

    images: dict[int | str, str]
    categories: dict[int, str]


def read_coco_with_ids(content: bytes, called: str) -> tuple[Record, CocoIds]:
    """A COCO file, and the ids of its pictures and classes as results files refer to them.

    Parameters
    ----------
    content : bytes
    called : str
        The file's name, for messages.

    Returns
    -------
    Record
    CocoIds

    Raises
    ------
    InputError
        As `read_coco`.

    Examples
    --------
    >>> read_coco_with_ids(
    ...     b'{"images": [{"id": 7, "file_name": "a.jpg"}], "categories": [{"id": 3, "name": "roll"}],'
    ...     b' "annotations": []}', "truth.json")[1]
    CocoIds(images={7: 'a.jpg'}, categories={3: 'roll'})
    """
    document = parse_json(content, called, "a COCO file")
    record = parse_coco(document, called, content)
    order = sorted(entry["id"] for entry in document["categories"])
    images = {entry["id"]: entry["file_name"] for entry in document["images"]}
    return record, CocoIds(images, dict(zip(order, record.class_names, strict=True)))


def write_coco(record: Record) -> dict[str, Any]:
    """A record as a COCO document, ready for ``json.dump``.

    Parameters
    ----------
    record : Record

    Returns
    -------
    dict

    Examples
    --------
    >>> record = Record(["roll"], [RecordedPicture("a.jpg", 10, 10, [RecordedBox(0, (1, 2, 4, 6))])])
    >>> write_coco(record)["annotations"][0]["bbox"]
    [1.0, 2.0, 3.0, 4.0]
    """
    images: list[dict[str, Any]] = []
    annotations: list[dict[str, Any]] = []
    for number, picture in enumerate(record.pictures, start=1):
        images.append(
            {"id": number, "file_name": picture.name, "width": picture.width, "height": picture.height}
        )
        sizes = to_corner_size([box.corners for box in picture.boxes]).tolist()
        for box, (x, y, width, height) in zip(picture.boxes, sizes, strict=True):
            annotations.append(
                {
                    "id": len(annotations) + 1,
                    "image_id": number,
                    "category_id": box.label + 1,
                    "bbox": [x, y, width, height],
                    "area": width * height,
                    "iscrowd": int(box.crowd),
                }
                | ({"track_id": box.track} if box.track is not None else {})
                | ({"attributes": box.attributes} if box.attributes else {})
                | ({"origin": box.origin} if box.origin else {})
            )
    categories = [{"id": index, "name": name} for index, name in enumerate(record.class_names, start=1)]
    return {"images": images, "annotations": annotations, "categories": categories}


def _lines(content: bytes, wrong: dict[int, str]) -> dict[int, int]:
    return lines_of_entries(content.decode(json.detect_encoding(content)), "annotations", wrong)


def _categories(entries: list[Any], called: str) -> tuple[list[str], dict[int, int]]:
    named: dict[int, str] = {}
    for number, entry in enumerate(entries):
        ident: Any = entry.get("id") if isinstance(entry, dict) else None
        name = entry.get("name") if isinstance(entry, dict) else None
        if not _is_id(ident) or not isinstance(name, str) or not name.strip():
            raise InputError(f"{called}: category {number + 1} needs a whole number as id and a name")
        if ident in named:
            raise InputError(f"{called}: category id {ident} is used twice ({named[ident]!r} and {name!r})")
        named[ident] = name.strip()
    if len(set(named.values())) != len(named):
        twice = next(name for name in named.values() if list(named.values()).count(name) > 1)
        raise InputError(f"{called}: two categories are called {twice!r}")
    order = sorted(named)
    return [named[ident] for ident in order], {ident: index for index, ident in enumerate(order)}


def _images(
    entries: list[Any], called: str, faults: list[str]
) -> tuple[list[RecordedPicture], dict[Any, RecordedPicture]]:
    pictures: list[RecordedPicture] = []
    by_id: dict[Any, RecordedPicture] = {}
    names: set[str] = set()
    for number, entry in enumerate(entries):
        ident = entry.get("id") if isinstance(entry, dict) else None
        name = entry.get("file_name") if isinstance(entry, dict) else None
        if not _is_id(ident) and not isinstance(ident, str):
            raise InputError(f"{called}: image {number + 1} needs an id")
        if not isinstance(name, str) or not name:
            raise InputError(f"{called}: image {ident} has no file_name")
        if ident in by_id:
            raise InputError(f"{called}: image id {ident} is used twice")
        if name in names:
            faults.append(f"{called}: the name {name!r} stands twice among the images; the first is taken")
            continue
        width, height = entry.get("width"), entry.get("height")
        known = _is_id(width) and _is_id(height) and width > 0 and height > 0
        picture = RecordedPicture(name, width if known else 0, height if known else 0, [])
        names.add(name)
        pictures.append(picture)
        by_id[ident] = picture
    return pictures, by_id


def _add_box(
    entry: Any,
    number: int,
    pictures: list[RecordedPicture],
    picture_of: dict[Any, RecordedPicture],
    label_of: dict[int, int],
) -> str:
    """Add one annotation to its picture; returns what is wrong with it, if anything."""
    if not isinstance(entry, dict):
        return f"annotation {number + 1} is not an object"
    called = f"annotation {entry.get('id', number + 1)}"
    image_id, category_id = entry.get("image_id"), entry.get("category_id")
    if isinstance(image_id, list | dict) or image_id not in picture_of:
        return f"{called} is on image {image_id}, which the file does not have"
    picture = picture_of[image_id]
    if isinstance(category_id, list | dict) or category_id not in label_of:
        return f"{called} on {picture.name} has category {category_id}, which the file does not have"
    box: Any = entry.get("bbox")
    numbers = isinstance(box, list) and len(box) == 4 and all(_is_number(value) for value in box)
    if not numbers:
        return f"{called} on {picture.name} has the box {box}, which is not four numbers"
    x, y, wide, high = box
    corners, reason = fit_box((x, y, x + wide, y + high), picture.width, picture.height)
    if corners is None:
        return f"{called} on {picture.name}: the box {box} {reason}"
    attributes: Any = entry.get("attributes")
    track: Any = entry.get("track_id")
    picture.boxes.append(
        RecordedBox(
            label_of[category_id],
            corners,
            bool(entry.get("iscrowd", 0)),
            dict(attributes) if isinstance(attributes, dict) else {},
            track if _is_id(track) and abs(track) < 2**62 else None,
            _area_of(entry, corners),
            origin_in(entry),
        )
    )
    return ""


def _area_of(entry: dict[str, Any], corners: tuple[float, float, float, float]) -> float | None:
    """The area that the file gives, where it is that of an outline and not the box's own."""
    told: Any = entry.get("area")
    if not _is_number(told) or not 0 < told < float("inf"):
        return None
    x1, y1, x2, y2 = corners
    own = (x2 - x1) * (y2 - y1)
    return None if abs(told - own) <= 1e-6 * own else float(told)


def _is_id(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool)


def _is_number(value: Any) -> bool:
    return type(value) is float or type(value) is int
