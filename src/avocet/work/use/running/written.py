"""A run's record in the formats of other programs, once it has ended."""

import csv
import itertools
import json
import zipfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
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

Take = Callable[[Row], object]
"""Writes one picture's row."""

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
    makers = [
        _as_json(out / JSON_NAME, head),
        _as_csv(out / CSV_NAME),
        _as_coco(out / COCO_NAME, classes),
        _as_text(out / TEXT_NAME, classes),
        *([_crop_list(out / CROPS_CSV)] if crops else []),
    ]
    # All at once: to read the record takes longer than to write most of them.
    with ExitStack() as stack:
        takers = [stack.enter_context(each) for each in makers]
        for row in _pictures(out, numbered):
            for take in takers:
                take(row)


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


@contextmanager
def _as_json(path: Path, head: dict[str, Any]) -> Iterator[Take]:
    """Written row by row: all of a long clip does not fit into memory."""
    with replacing(path) as temporary, temporary.open("w", encoding="utf-8") as opened:
        text = json.dumps(head, ensure_ascii=False, indent=1)
        opened.write(f'{text.removesuffix("}").rstrip()},\n "pictures": [')
        between = itertools.chain([""], itertools.repeat(","))
        yield lambda row: opened.write(f"{next(between)}\n  {json.dumps(row, ensure_ascii=False)}")
        opened.write("\n ]\n}\n")


@contextmanager
def _as_csv(path: Path) -> Iterator[Take]:
    with _table(path) as opened:
        writer = csv.writer(opened)
        writer.writerow(["picture", "frame", "seconds", "class", "score", "x1", "y1", "x2", "y2", "object"])

        def take(picture: Row) -> None:
            place = [picture["name"], picture.get("frame", ""), picture.get("seconds", "")]
            for row in picture["detections"]:
                writer.writerow([*place, row["class"], row["score"], *row["box"], row.get("object", "")])

        yield take


@contextmanager
def _crop_list(path: Path) -> Iterator[Take]:
    with _table(path) as opened:
        writer = csv.writer(opened)
        writer.writerow(["crop", "picture", "frame", "class", "score", "x1", "y1", "x2", "y2"])

        def take(picture: Row) -> None:
            for name, row in zip(picture.get("crops", []), picture["detections"], strict=False):
                place = [name, picture["name"], picture.get("frame", "")]
                writer.writerow([*place, row["class"], row["score"], *row["box"]])

        yield take


def _called(row: Row) -> str:
    """A frame's name among pictures."""
    return row["name"] if "frame" not in row else f"{row['name']}-{row['frame']:06d}.png"


@contextmanager
def _as_coco(path: Path, classes: Sequence[str]) -> Iterator[Take]:
    """COCO results, and the document that says which picture and class each number means."""
    ids = {name: number for number, name in enumerate(classes, start=1)}
    images: list[dict[str, Any]] = []
    with (
        replacing(path) as temporary,
        zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as archive,
    ):
        with archive.open("results.json", "w", force_zip64=True) as opened:
            opened.write(b"[")
            between = itertools.chain([b"\n"], itertools.repeat(b",\n"))

            def take(row: Row) -> None:
                number = len(images) + 1
                images.append(
                    {"id": number, "file_name": _called(row), "width": row["width"], "height": row["height"]}
                )
                boxes = to_corner_size([each["box"] for each in row["detections"]]).round(2).tolist()
                for each, box in zip(row["detections"], boxes, strict=True):
                    entry = {
                        "image_id": number,
                        "category_id": ids[each["class"]],
                        "bbox": box,
                        "score": each["score"],
                    }
                    opened.write(next(between) + json.dumps(entry).encode())

            yield take
            opened.write(b"\n]\n")
        categories = [{"id": number, "name": name} for name, number in ids.items()]
        known = {"images": images, "annotations": [], "categories": categories}
        archive.writestr("pictures.json", json.dumps(known, ensure_ascii=False))


@contextmanager
def _as_text(path: Path, classes: Sequence[str]) -> Iterator[Take]:
    """Centre-text, a file a picture; scores have no place there."""
    ids = {name: number for number, name in enumerate(classes)}
    stems: set[str] = set()
    into = format_called("centre-text")
    some: list[RecordedPicture] = []
    with (
        replacing(path) as temporary,
        zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as archive,
    ):
        written: set[str] = set()

        def write() -> None:
            for name, content in into.write(Labels(list(classes), some)):
                if name not in written:
                    archive.writestr(name, content)
                    written.add(name)
            some.clear()

        def take(row: Row) -> None:
            some.append(_recorded(row, ids, stems))
            if len(some) == AT_A_TIME:
                write()

        yield take
        # Also where there are none: the list of the classes belongs to it.
        if some or not written:
            write()


def _recorded(row: Row, ids: Mapping[str, int], stems: set[str]) -> RecordedPicture:
    """A row as a picture whose name, without what tells its kind, no other has."""
    name, number = PurePosixPath(_called(row)), 2
    own = name
    while own.with_suffix("").as_posix().lower() in stems:
        own, number = name.with_name(f"{name.stem}-{number}{name.suffix}"), number + 1
    stems.add(own.with_suffix("").as_posix().lower())
    boxes = [RecordedBox(ids[each["class"]], tuple(each["box"])) for each in row["detections"]]
    return RecordedPicture(own.as_posix(), row["width"], row["height"], boxes)
