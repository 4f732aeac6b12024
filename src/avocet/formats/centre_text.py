"""Centre-text: one file a picture, a line ``class cx cy w h`` a box in fractions, names beside."""

from collections.abc import Iterator
from pathlib import PurePosixPath

from avocet.core.boxes import to_centre_size
from avocet.formats.class_lists import COMMENT, NAMES, list_of_classes, listed_classes
from avocet.formats.files import LabelFiles
from avocet.formats.record import (
    FindPicture,
    Record,
    RecordedBox,
    RecordedPicture,
    find_nothing,
    fit_box,
)
from avocet.formats.voc import file_names


def read_centre_text(files: LabelFiles, find: FindPicture = find_nothing) -> Record:
    """Read centre-text files and the file of class names beside them.

    The names are in a list beside them, see `avocet.formats.class_lists.listed_classes`. Lines that
    begin with ``#`` are comments. Fractions only become pixels with the size of the picture, so every
    picture must be found. What cannot be used is left out and listed in the record's faults.

    Parameters
    ----------
    files : LabelFiles
    find : callable
        Finds a picture by its name without suffix.

    Returns
    -------
    Record

    Raises
    ------
    InputError
        If there is no file with names, or several that differ.
    """
    texts: dict[str, list[list[str]]] = {}
    others: list[str] = []
    faults: list[str] = []
    for name in (each for each in files.names if each.lower().endswith(".txt")):
        lines = files.text(name).splitlines()
        rows = [[] if line.lstrip().startswith(COMMENT) else line.split() for line in lines]
        if PurePosixPath(name).name == NAMES or any(row and not _is_number(row[0]) for row in rows):
            others.append(name)
        else:
            texts[name] = rows
    class_names, unused = listed_classes(files, others)
    # Any other text may lie beside them; one that is called like a picture was meant for it.
    faults += [
        f"{name}: its lines do not begin with the number of a class"
        for name in unused
        if find(PurePosixPath(name).with_suffix("").as_posix()) is not None
    ]
    pictures = []
    seen: dict[str, str] = {}
    for name, rows in texts.items():
        stem = PurePosixPath(name).with_suffix("").as_posix()
        picture = find(stem)
        if picture is None:
            faults.append(f"{name}: there is no picture called {PurePosixPath(stem).name}")
            continue
        if picture.name in seen:
            faults.append(
                f"{name}: {picture.name} has a file already, {seen[picture.name]}; that one is taken"
            )
            continue
        seen[picture.name] = name
        size = (picture.width, picture.height)
        boxes, left_out, cut = [], [], list[float]()
        for number, row in enumerate(rows, start=1):
            if not row:
                continue
            box, reason = _box(row, len(class_names), *size, cut)
            if box is None:
                faults.append(f"{name}, line {number}: {reason}")
                left_out.append(reason)
            else:
                boxes.append(box)
        pictures.append(RecordedPicture(picture.name, *size, boxes, left_out, cut))
    return Record(class_names, pictures, faults)


def write_centre_text(record: Record) -> Iterator[tuple[str, bytes]]:
    """A record as the names and contents of centre-text files and their names file.

    Parameters
    ----------
    record : Record

    Yields
    ------
    name : str
    content : bytes

    Examples
    --------
    >>> record = Record(["roll"], [RecordedPicture("a.jpg", 10, 20, [RecordedBox(0, (1, 2, 4, 6))])])
    >>> dict(write_centre_text(record))
    {'names.txt': b'roll\\n', 'a.txt': b'0 0.25 0.2 0.3 0.2\\n'}
    """
    yield NAMES, list_of_classes(record.class_names).encode()
    files = file_names([picture.name for picture in record.pictures], ".txt")
    for file, picture in zip(files, record.pictures, strict=True):
        scale = [picture.width, picture.height] * 2
        rows = to_centre_size([box.corners for box in picture.boxes]) / scale
        lines = (
            " ".join(str(value) for value in (box.label, *row))
            for box, row in zip(picture.boxes, rows.tolist(), strict=True)
        )
        yield (
            file if file != NAMES else f"{picture.name}.txt",
            "".join(f"{line}\n" for line in lines).encode(),
        )


def _box(
    row: list[str], classes: int, width: int, height: int, cut: list[float]
) -> tuple[RecordedBox | None, str]:
    shown = " ".join(row)[:80]
    if len(row) not in (5, 6):
        return None, f"{shown!r} has {len(row)} values, not five (class, centre x, centre y, width, height)"
    try:
        values = [float(word) for word in row]
    except ValueError:
        return None, f"{shown!r} is not made of numbers"
    if not values[0].is_integer() or not 0 <= values[0] < classes:
        return None, f"class {row[0]} is not one of the {classes} in the names file, counted from 0"
    x, y, wide, high = values[1:5]
    # Programs that detect write how sure they are behind each box.
    score = values[5] if len(values) == 6 else None
    if score is not None and not 0 <= score <= 1:
        return None, f"{shown!r} has {score:g} in its sixth place, where a score from 0 to 1 may stand"
    if not all(abs(value) < 1e6 for value in (x, y, wide, high)):
        return None, f"{shown!r} is not made of finite numbers"
    if wide < 0 or high < 0:
        return None, f"{shown!r} has a negative size"
    if max(abs(value) for value in (x, y, wide, high)) > 3:
        return None, f"{shown!r} is not in fractions of the picture"
    corners = (
        (x - wide / 2) * width,
        (y - high / 2) * height,
        (x + wide / 2) * width,
        (y + high / 2) * height,
    )
    fitted, reason = fit_box(corners, width, height, cut)
    if fitted is None:
        return None, f"the box {shown!r} {reason}"
    return RecordedBox(int(values[0]), fitted, attributes={} if score is None else {"score": score}), ""


def _is_number(word: str) -> bool:
    try:
        float(word)
    except ValueError:
        return False
    return True
