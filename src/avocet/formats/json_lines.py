"""JSON Lines: one picture a line, with everything that a label can hold."""

import json
from collections.abc import Iterator
from typing import Any, TypeGuard

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


def read_json_lines(files: LabelFiles, find: FindPicture = find_nothing) -> Record:
    """Read a JSON Lines file.

    A line is ``{"picture": name, "width": w, "height": h, "boxes": [...]}`` with boxes
    ``{"class": name, "corners": [x1, y1, x2, y2]}`` and, where there is something to say,
    ``"crowd"``, ``"track"`` and ``"attributes"``. A line ``{"classes": [...]}`` gives the classes'
    order; others follow in the order of their first box. Lines and boxes that cannot be used are
    left out and listed in the record's faults.

    Parameters
    ----------
    files : LabelFiles
    find : callable
        Not needed: the file says all by itself.

    Returns
    -------
    Record

    Raises
    ------
    InputError
        If there is no JSON Lines file.
    """
    names = [name for name in files.names if name.lower().endswith((".jsonl", ".ndjson"))]
    if not names:
        raise InputError(f"{files.called} holds no JSON Lines file")
    classes: dict[str, int] = {}
    pictures: dict[str, RecordedPicture] = {}
    faults: list[str] = []
    for name in names:
        # Only the line feed ends a line: JSON text may hold the other separators.
        for number, line in enumerate(files.text(name).split("\n"), start=1):
            if not line.strip():
                continue
            where = f"{name}, line {number}"
            try:
                entry = json.loads(line)
            except (ValueError, RecursionError) as error:
                faults.append(f"{where} is not JSON: {error}")
                continue
            fault = _take(entry, where, classes, pictures, faults)
            if fault:
                faults.append(f"{where}: {fault}")
    return Record(list(classes), list(pictures.values()), faults)


def write_json_lines(record: Record) -> Iterator[tuple[str, bytes]]:
    """A record as the name and content of a JSON Lines file.

    Parameters
    ----------
    record : Record

    Yields
    ------
    name : str
    content : bytes

    Examples
    --------
    >>> record = Record(["roll"], [RecordedPicture("a.jpg", 9, 9, [RecordedBox(0, (1, 2, 4, 6), track=3)])])
    >>> print(next(write_json_lines(record))[1].decode())
    {"classes": ["roll"]}
    {"picture": "a.jpg", "width": 9, "height": 9, "boxes": [{"class": "roll", "corners": [1, 2, 4, 6], "track": 3}]}
    """
    lines = [json.dumps({"classes": record.class_names}, ensure_ascii=False)]
    for picture in record.pictures:
        boxes = [
            {"class": record.class_names[box.label], "corners": list(box.corners)}
            | ({"crowd": True} if box.crowd else {})
            | ({"track": box.track} if box.track is not None else {})
            | ({"attributes": box.attributes} if box.attributes else {})
            | ({"origin": box.origin} if box.origin else {})
            for box in picture.boxes
        ]
        entry = {"picture": picture.name, "width": picture.width, "height": picture.height, "boxes": boxes}
        lines.append(json.dumps(entry, ensure_ascii=False))
    yield "labels.jsonl", ("\n".join(lines) + "\n").encode()


def _take(
    entry: Any,
    where: str,
    classes: dict[str, int],
    pictures: dict[str, RecordedPicture],
    faults: list[str],
) -> str:
    """Add one line; returns what is wrong with it as a whole, if anything."""
    if not isinstance(entry, dict):
        return "it is not an object"
    if "picture" not in entry and isinstance(entry.get("classes"), list):
        for name in entry["classes"]:
            if not isinstance(name, str) or not name.strip():
                return f"{name!r} is not the name of a class"
            classes.setdefault(name.strip(), len(classes))
        return ""
    name, boxes = entry.get("picture"), entry.get("boxes", [])
    if not isinstance(name, str) or not name:
        return 'it has no "picture"'
    if name in pictures:
        return f"{name!r} has a line already; the first is taken"
    if not isinstance(boxes, list):
        return f'"boxes" of {name} is not a list'
    width, height = _length(entry.get("width")), _length(entry.get("height"))
    picture = (
        RecordedPicture(name, width, height, []) if width and height else RecordedPicture(name, 0, 0, [])
    )
    pictures[name] = picture
    for number, each in enumerate(boxes, start=1):
        box, reason = _box(each, picture, classes)
        if box is None:
            faults.append(f"{where}: box {number} of {name} {reason}")
            picture.left_out.append(reason)
        else:
            picture.boxes.append(box)
    return ""


def _is_four_numbers(value: object) -> TypeGuard[list[float]]:
    return (
        isinstance(value, list)
        and len(value) == 4
        and all(isinstance(each, int | float) and not isinstance(each, bool) for each in value)
    )


def _box(entry: Any, picture: RecordedPicture, classes: dict[str, int]) -> tuple[RecordedBox | None, str]:
    if not isinstance(entry, dict):
        return None, "is not an object"
    label, corners = entry.get("class"), entry.get("corners")
    if not isinstance(label, str) or not label.strip():
        return None, "has no class"
    if not _is_four_numbers(corners):
        return None, f"has the corners {str(corners)[:80]}, which are not four numbers"
    fitted, reason = fit_box(corners, picture.width, picture.height, picture.cut)
    if fitted is None:
        return None, f"with corners {str(corners)[:80]} {reason}"
    track, attributes = entry.get("track"), entry.get("attributes", {})
    if track is not None and (not _is_whole(track) or abs(track) >= 2**62):
        return None, f"has the track {str(track)[:40]!r}, which is not a whole number"
    if not isinstance(attributes, dict):
        return None, f"has the attributes {str(attributes)[:80]!r}, which are not an object"
    number = classes.setdefault(label.strip(), len(classes))
    return RecordedBox(
        number, fitted, entry.get("crowd") is True, attributes, track, origin=origin_in(entry)
    ), ""


def _length(value: Any) -> int:
    return value if _is_whole(value) and value > 0 else 0


def _is_whole(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool)
