"""COCO JSON: detection annotations, ``bbox`` as ``[x, y, width, height]``."""

import json
from collections import Counter
from dataclasses import dataclass
from typing import Any

from avocet.core.boxes import to_corner_size
from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.record import (
    IGNORE,
    FindPicture,
    Record,
    RecordedBox,
    RecordedPicture,
    cut_by,
    find_nothing,
    fit_box,
    origin_in,
)
from avocet.formats.text.json_text import parse_json
from avocet.formats.text.lines import lines_of_entries
from avocet.readable import so_many

MOST_SIDE = 100_000
"""Of a mask: no picture has so many pixels a side."""


def read_coco(files: LabelFiles, find: FindPicture = find_nothing, corners: bool | None = None) -> Record:
    """Read a COCO JSON file.

    Classes keep the file's order of category ids. Boxes that reach over an edge are cut to the
    picture; entries that cannot be used are left out and listed in the record's faults. Where an annotation has no
    ``bbox``, its box is that of its outline. ``ignore`` and ``score`` become attributes of these names.

    Parameters
    ----------
    files : LabelFiles
        With one JSON file among them.
    find : callable
        Not needed: the file says all by itself.
    corners : bool, optional
        ``bbox`` holds ``[x1, y1, x2, y2]``, against the format, or does not. Where nobody said so and it looks like it,
        the record asks.

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
    return parse_coco(parse_json(content, found[0], "a COCO file"), found[0], content, corners)


def parse_coco(document: Any, called: str, content: bytes = b"", corners: bool | None = None) -> Record:
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
    kept: Counter[str] = Counter()
    for number, entry in enumerate(document["annotations"]):
        fault = _add_box(entry, number, picture_of, label_of, bool(corners), kept)
        if fault:
            wrong[number] = fault
            image_id = entry.get("image_id") if isinstance(entry, dict) else None
            if not isinstance(image_id, list | dict) and image_id in picture_of:
                picture_of[image_id].left_out.append(fault)
    lines = _lines(content, wrong) if wrong and content else {}
    for number, fault in wrong.items():
        faults.append(f"{called}, line {lines[number]}: {fault}" if number in lines else f"{called}: {fault}")
    asks = "" if corners is not None else _ask_for_corners(document["annotations"], picture_of, called)
    return Record(class_names, pictures, faults, _notes(kept, called), asks)


OVER = 0.25
"""Share of boxes far over the border from which something is wrong with how they are read."""

FAR_OVER = 2.0
"""Pixels over the border that no rounding explains."""


def _ask_for_corners(entries: list[Any], picture_of: dict[Any, RecordedPicture], called: str) -> str:
    """The question whether boxes are corners, where too many reach over the border and as corners none would."""
    over = as_corners = known = 0
    for entry in entries:
        box: Any = entry.get("bbox") if isinstance(entry, dict) else None
        image_id: Any = entry.get("image_id") if isinstance(entry, dict) else None
        picture = None if isinstance(image_id, list | dict) else picture_of.get(image_id)
        if picture is None or not picture.width or not _is_four_numbers(box):
            continue
        known += 1
        x, y, third, fourth = box
        over += cut_by((x, y, x + third, y + fourth), picture.width, picture.height) > FAR_OVER
        within = cut_by((x, y, third, fourth), picture.width, picture.height) <= FAR_OVER
        as_corners += within and third > x and fourth > y
    if not known or over < OVER * known or as_corners < known:
        return ""
    return (
        f"{called}: {over} of {so_many(known, 'box', 'boxes')} {'reaches' if over == 1 else 'reach'} over the border of "
        'the picture when "bbox" is read as [x, y, width, height]; are they corners, [x1, y1, x2, y2]?'
    )


def _notes(kept: Counter[str], called: str) -> list[str]:
    """What was done with boxes that is not what their file says word for word."""
    words = {
        "outlined": "{} made from {} outline: the file has none of {} own",
        "ignored": "{} marked to be ignored, as the file says",
        "outlines": "outlines of {} are not taken along: labels here are boxes",
    }
    told = []
    for name, text in words.items():
        if kept[name]:
            one = kept[name] == 1
            boxes = so_many(kept[name], "box", "boxes")
            if name in ("outlined", "ignored"):
                boxes += " is" if one else " are"
            told.append(
                f"{called}: " + text.format(boxes, "its" if one else "their", "its" if one else "their")
            )
    return told


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
        As `read_coco`, and where boxes look like corners.

    Examples
    --------
    >>> read_coco_with_ids(
    ...     b'{"images": [{"id": 7, "file_name": "a.jpg"}], "categories": [{"id": 3, "name": "roll"}],'
    ...     b' "annotations": []}', "truth.json")[1]
    CocoIds(images={7: 'a.jpg'}, categories={3: 'roll'})
    """
    document = parse_json(content, called, "a COCO file")
    record = parse_coco(document, called, content)
    if record.asks:
        raise InputError(f"{record.asks} A truth has boxes as the format says.")
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
    picture_of: dict[Any, RecordedPicture],
    label_of: dict[int, int],
    as_corners: bool,
    kept: Counter[str],
) -> str:
    """Add one annotation to its picture, counting what is done with it; returns what is wrong with it, if anything."""
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
    outline = box_of_outline(entry.get("segmentation"))
    if _is_four_numbers(box):
        x, y, third, fourth = box
        told = (x, y, third, fourth) if as_corners else (x, y, x + third, y + fourth)
    elif box is None and outline is not None:
        told = outline
        kept["outlined"] += 1
    else:
        return f"{called} on {picture.name} has the box {str(box)[:80]}, which is not four numbers"
    corners, reason = fit_box(told, picture.width, picture.height, picture.cut)
    if corners is None:
        return f"{called} on {picture.name}: the box {list(told) if box is None else box} {reason}"
    attributes: Any = entry.get("attributes")
    attributes = dict(attributes) if isinstance(attributes, dict) else {}
    # A flag of the published detection rules, beside `iscrowd`.
    if entry.get("ignore") in (1, True) and IGNORE not in attributes:
        attributes[IGNORE] = True
        kept["ignored"] += 1
    if _is_number(entry.get("score")):
        attributes.setdefault("score", entry["score"])
    kept["outlines"] += box is not None and bool(entry.get("segmentation"))
    track: Any = entry.get("track_id")
    picture.boxes.append(
        RecordedBox(
            label_of[category_id],
            corners,
            bool(entry.get("iscrowd", 0)),
            attributes,
            track if _is_id(track) and abs(track) < 2**62 else None,
            _area_of(entry, corners),
            origin_in(entry),
        )
    )
    return ""


def box_of_outline(outline: Any) -> tuple[float, float, float, float] | None:
    """The box of a COCO outline: of polygons, or of a mask as counted runs that are not packed; None of anything else.

    Examples
    --------
    >>> box_of_outline([[10, 5, 30, 5, 20, 40]]), box_of_outline({"size": [3, 4], "counts": [4, 2, 6]})
    ((10, 5, 30, 40), (1.0, 1.0, 2.0, 3.0))
    """
    if isinstance(outline, list):
        rings = [ring for ring in outline if isinstance(ring, list) and len(ring) >= 6 and len(ring) % 2 == 0]
        values = [value for ring in rings for value in ring]
        if not values or len(rings) < len(outline) or not all(_is_number(value) for value in values):
            return None
        xs = [value for ring in rings for value in ring[::2]]
        ys = [value for ring in rings for value in ring[1::2]]
        return min(xs), min(ys), max(xs), max(ys)
    size = outline.get("size") if isinstance(outline, dict) else None
    runs = outline.get("counts") if isinstance(outline, dict) else None
    if (
        not isinstance(size, list)
        or len(size) != 2
        or not all(_is_id(each) and 0 < each <= MOST_SIDE for each in size)
    ):
        return None
    if not isinstance(runs, list) or not all(_is_id(run) and run >= 0 for run in runs):
        return None
    # Runs go down the columns, the first of what is not in it.
    height, at, spans = size[0], 0, []
    for number, run in enumerate(runs):
        if number % 2 and run:
            spans.append((at, at + run - 1))
        at += run
    if not spans or at > size[0] * size[1]:
        return None
    tall = any(first // height != last // height for first, last in spans)
    top = 0 if tall else min(first % height for first, _ in spans)
    bottom = height if tall else 1 + max(last % height for _, last in spans)
    return float(spans[0][0] // height), float(top), float(1 + spans[-1][1] // height), float(bottom)


def _area_of(entry: dict[str, Any], corners: tuple[float, float, float, float]) -> float | None:
    """The area that the file gives, where it is that of an outline and not the box's own."""
    told: Any = entry.get("area")
    if not _is_number(told) or not 0 < told < float("inf"):
        return None
    x1, y1, x2, y2 = corners
    own = (x2 - x1) * (y2 - y1)
    return None if abs(told - own) <= 1e-6 * own else float(told)


def _is_four_numbers(value: Any) -> bool:
    return isinstance(value, list) and len(value) == 4 and all(_is_number(each) for each in value)


def _is_id(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool)


def _is_number(value: Any) -> bool:
    return type(value) is float or type(value) is int
