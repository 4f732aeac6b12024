"""A run's record in the formats of other programs, once it has ended."""

import csv
import itertools
import json
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import IO, Any

from avocet.core.boxes import to_corner_size
from avocet.files import replacing, write_text
from avocet.formats.kinds import format_called
from avocet.formats.record import Record as Labels
from avocet.formats.record import RecordedBox, RecordedPicture
from avocet.work.use.running.looking import Row
from avocet.work.use.running.objects import OBJECT_COLUMNS
from avocet.work.use.running.record import RECORD, read_record

JSON_NAME, CSV_NAME, COCO_NAME, TEXT_NAME = (
    "detections.json", "detections.csv", "detections-coco.zip", "detections-centre-text.zip",
)  # fmt: skip
OBJECTS_JSON, OBJECTS_CSV, CROPS_CSV = "objects.json", "objects.csv", "crops.csv"
COUNTS_CSV = "counts.csv"

AT_A_TIME = 1000
"""Pictures of which files are made at once."""

Numbered = Mapping[tuple[str, int, int], int]
"""The object's number of a clip's box, by clip, frame and place among the boxes."""


def write_all(
    out: Path, head: dict[str, Any], classes: Sequence[str], numbered: Numbered, crops: bool
) -> None:
    """Write a run's record as JSON, CSV, COCO results and centre-text.

    Parameters
    ----------
    out : Path
        The run's folder, in which the record lies.
    head : dict
        What the JSON begins with.
    classes : sequence of str
    numbered : mapping
    crops : bool
        Write the list of the crops too.

    Raises
    ------
    InputError
        If the record is damaged or a file cannot be written.
    """
    with replacing(out / JSON_NAME) as temporary, temporary.open("w", encoding="utf-8") as opened:
        _as_json(opened, head, _pictures(out, numbered))
    with _table(out / CSV_NAME) as opened:
        _as_csv(opened, _pictures(out, numbered))
    _as_coco(out, classes)
    _as_text(out, classes)
    if crops:
        with _table(out / CROPS_CSV) as opened:
            _crop_list(opened, _pictures(out, numbered))


def write_objects(objects: Sequence[dict[str, Any]], out: Path) -> None:
    """As JSON for the page and other programs, and as CSV."""
    write_text(out / OBJECTS_JSON, json.dumps({"objects": list(objects)}, ensure_ascii=False, indent=1))
    with _table(out / OBJECTS_CSV) as opened:
        writer = csv.DictWriter(opened, OBJECT_COLUMNS)
        writer.writeheader()
        writer.writerows(objects)


@contextmanager
def _table(path: Path) -> Iterator[IO[str]]:
    """A CSV file that is there whole or not at all."""
    with replacing(path) as temporary, temporary.open("w", newline="", encoding="utf-8") as opened:
        yield opened


def _pictures(out: Path, numbered: Numbered) -> Iterator[Row]:
    """Rows of what was looked at, without the boxes that are not told, with the numbers of objects."""
    for row in read_record(out / RECORD):
        if "problem" in row:
            continue
        row.pop("others", None)
        if "frame" in row:
            for place, each in enumerate(row["detections"]):
                number = numbered.get((row["name"], row["frame"], place))
                if number:
                    each["object"] = number
        yield row


def _as_json(opened: IO[str], head: dict[str, Any], pictures: Iterator[Row]) -> None:
    """Written row by row: all of a long clip does not fit into memory."""
    text = json.dumps(head, ensure_ascii=False, indent=1)
    opened.write(f'{text.removesuffix("}").rstrip()},\n "pictures": [')
    for number, row in enumerate(pictures):
        opened.write(f"{',' if number else ''}\n  {json.dumps(row, ensure_ascii=False)}")
    opened.write("\n ]\n}\n")


def _as_csv(opened: IO[str], pictures: Iterator[Row]) -> None:
    writer = csv.writer(opened)
    writer.writerow(["picture", "frame", "seconds", "class", "score", "x1", "y1", "x2", "y2", "object"])
    for picture in pictures:
        place = [picture["name"], picture.get("frame", ""), picture.get("seconds", "")]
        for row in picture["detections"]:
            writer.writerow([*place, row["class"], row["score"], *row["box"], row.get("object", "")])


def _crop_list(opened: IO[str], pictures: Iterator[Row]) -> None:
    writer = csv.writer(opened)
    writer.writerow(["crop", "picture", "frame", "class", "score", "x1", "y1", "x2", "y2"])
    for picture in pictures:
        for name, row in zip(picture.get("crops", []), picture["detections"], strict=False):
            place = [name, picture["name"], picture.get("frame", "")]
            writer.writerow([*place, row["class"], row["score"], *row["box"]])


def _called(row: Row) -> str:
    """A frame's name among pictures."""
    return row["name"] if "frame" not in row else f"{row['name']}-{row['frame']:06d}.png"


def _as_coco(out: Path, classes: Sequence[str]) -> None:
    """COCO results, and the document that says which picture and class each number means."""
    ids = {name: number for number, name in enumerate(classes, start=1)}
    images: list[dict[str, Any]] = []
    with (
        replacing(out / COCO_NAME) as temporary,
        zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as archive,
    ):
        with archive.open("results.json", "w", force_zip64=True) as opened:
            opened.write(b"[")
            first = True
            for number, row in enumerate(_pictures(out, {}), start=1):
                images.append(
                    {"id": number, "file_name": _called(row), "width": row["width"], "height": row["height"]}
                )
                for each in row["detections"]:
                    x, y, width, height = to_corner_size([each["box"]])[0].round(2).tolist()
                    entry = {
                        "image_id": number, "category_id": ids[each["class"]], "bbox": [x, y, width, height],
                        "score": each["score"],
                    }  # fmt: skip
                    opened.write((b"" if first else b",") + b"\n" + json.dumps(entry).encode())
                    first = False
            opened.write(b"\n]\n")
        categories = [{"id": number, "name": name} for name, number in ids.items()]
        known = {"images": images, "annotations": [], "categories": categories}
        archive.writestr("pictures.json", json.dumps(known, ensure_ascii=False))


def _as_text(out: Path, classes: Sequence[str]) -> None:
    """Centre-text, a file a picture; scores have no place there."""
    ids = {name: number for number, name in enumerate(classes)}
    stems: set[str] = set()
    into = format_called("centre-text")
    with (
        replacing(out / TEXT_NAME) as temporary,
        zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as archive,
    ):
        written: set[str] = set()
        rows = _pictures(out, {})
        # Some at a time, and once where there are none: the list of the classes belongs to it.
        while (some := list(itertools.islice(rows, AT_A_TIME))) or not written:
            pictures = [_recorded(row, ids, stems) for row in some]
            for name, content in into.write(Labels(list(classes), pictures)):
                if name not in written:
                    archive.writestr(name, content)
                    written.add(name)


def _recorded(row: Row, ids: Mapping[str, int], stems: set[str]) -> RecordedPicture:
    """A row as a picture whose name, without what tells its kind, no other has."""
    name, number = PurePosixPath(_called(row)), 2
    own = name
    while own.with_suffix("").as_posix().lower() in stems:
        own, number = name.with_name(f"{name.stem}-{number}{name.suffix}"), number + 1
    stems.add(own.with_suffix("").as_posix().lower())
    boxes = [RecordedBox(ids[each["class"]], tuple(each["box"])) for each in row["detections"]]
    return RecordedPicture(own.as_posix(), row["width"], row["height"], boxes)
