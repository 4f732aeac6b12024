"""COCO results JSON: detections of any program, as a list of image, category, box and score."""

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from avocet.core.boxes import from_corner_size, to_corner_size
from avocet.core.detections import PictureDetections
from avocet.core.errors import InputError
from avocet.formats.text.json_text import parse_json

MOST_RESULTS = 20_000_000
SHOWN = 5
"""Values of one kind of fault that a message names."""


def read_results(
    content: bytes,
    called: str,
    images: Mapping[int | str, int],
    categories: Mapping[int, int],
    pictures: int,
    mapping: Mapping[int, int | None] | None = None,
) -> list[PictureDetections]:
    """Read detections and sort them by picture.

    Parameters
    ----------
    content : bytes
        A JSON list of objects with ``image_id``, ``category_id``, ``bbox`` as ``[x, y, width,
        height]`` in pixels and ``score``.
    called : str
        The file's name, for messages.
    images : mapping of int or str to int
        Place of each picture by its id in the truth; -1 for those that are not measured.
    categories : mapping of int to int
        Class index by its id in the truth.
    pictures : int
    mapping : mapping of int to int or None, optional
        For category ids of the file: the truth's id that they mean, or None to leave them out.

    Returns
    -------
    list of PictureDetections
        One entry a picture.

    Raises
    ------
    InputError
        If the file is not such a list or empty, or an entry speaks of a picture or class that
        the truth does not have, has a score that is not from 0 to 1, or a box without a size.

    Examples
    --------
    >>> content = b'[{"image_id": 7, "category_id": 2, "bbox": [10, 20, 30, 40], "score": 0.9}]'
    >>> found = read_results(content, "found.json", images={7: 0}, categories={2: 0}, pictures=1)
    >>> found[0].boxes, found[0].scores
    (array([[10., 20., 40., 60.]]), array([0.9]))
    """
    entries = _load(content, called)
    strange_images: Counter[Any] = Counter()
    strange_classes: Counter[Any] = Counter()
    rows: list[tuple[int, int, float, float, float, float, float]] = []
    for number, entry in enumerate(entries, start=1):
        where = f"{called}, entry {number}"
        if not isinstance(entry, dict):
            raise InputError(f"{where} is {_short(entry)}, not an object")
        image: Any = entry.get("image_id")
        label = entry.get("category_id")
        if isinstance(image, list | dict | bool) or image not in images:
            strange_images[_short(image)] += 1
            continue
        if not isinstance(label, int) or isinstance(label, bool):
            raise InputError(f"{where} has the category_id {_short(label)}, which is no whole number")
        meant = (mapping or {}).get(label, label)
        if meant is None:
            continue
        if meant not in categories:
            strange_classes[label] += 1
            continue
        place = images[image]
        row = _numbers(entry, where)
        if place >= 0:
            rows.append((place, categories[meant], *row))
    _refuse(strange_images, called, "image", "the truth does not have")
    _refuse(strange_classes, called, "category", "the truth does not have; say which class each means")
    table = np.array(rows, dtype=np.float64).reshape(-1, 7)
    order = np.argsort(table[:, 0], kind="stable")
    table = table[order]
    ends = np.searchsorted(table[:, 0], np.arange(1, pictures))
    return [
        PictureDetections(from_corner_size(part[:, 2:6]), part[:, 6], part[:, 1].astype(np.int64))
        for part in np.split(table, ends)
    ]


def write_results(
    detections: Sequence[PictureDetections], image_ids: Sequence[int | str], category_ids: Sequence[int]
) -> list[dict[str, Any]]:
    """Detections as COCO results, ready for ``json.dump``.

    Parameters
    ----------
    detections : sequence of PictureDetections
    image_ids : sequence of int or str
        One a picture.
    category_ids : sequence of int
        One a class.

    Returns
    -------
    list of dict

    Examples
    --------
    >>> found = PictureDetections([[10, 20, 40, 60]], [0.9], [0])
    >>> write_results([found], [7], [2])
    [{'image_id': 7, 'category_id': 2, 'bbox': [10.0, 20.0, 30.0, 40.0], 'score': 0.9}]
    """
    return [
        {"image_id": image, "category_id": category_ids[label], "bbox": box, "score": score}
        for image, found in zip(image_ids, detections, strict=True)
        for label, box, score in zip(
            found.classes.tolist(), to_corner_size(found.boxes).tolist(), found.scores.tolist(), strict=True
        )
    ]


def _load(content: bytes, called: str) -> list[Any]:
    if not content.strip():
        raise InputError(f"{called} is empty")
    entries = parse_json(content, called, "a COCO results file")
    if not isinstance(entries, list):
        raise InputError(f"{called} is not a COCO results file: its top is not a list")
    if not entries:
        raise InputError(f"{called} holds no detection")
    if len(entries) > MOST_RESULTS:
        raise InputError(f"{called} holds {len(entries):,} detections; at most {MOST_RESULTS:,} are read")
    return entries


def _numbers(entry: dict[str, Any], where: str) -> tuple[float, float, float, float, float]:
    box, score = entry.get("bbox"), entry.get("score")
    if not isinstance(score, int | float) or isinstance(score, bool) or score != score:
        raise InputError(f"{where} has the score {_short(score)}, which is no number")
    if not 0 <= score <= 1:
        raise InputError(f"{where} has the score {_short(score)}, which does not lie between 0 and 1")
    if not isinstance(box, list) or len(box) != 4 or not all(_finite(value) for value in box):
        raise InputError(f"{where} has the box {_short(box)}, which is not four numbers")
    x, y, width, height = (float(value) for value in box)
    if width < 0 or height < 0:
        raise InputError(f"{where} has the box {_short(box)}, whose size is negative")
    return x, y, width, height, float(score)


def _finite(value: Any) -> bool:
    if not isinstance(value, int | float) or isinstance(value, bool):
        return False
    try:
        return math.isfinite(value)
    except OverflowError:
        # A whole number beyond all floats.
        return False


def _short(value: Any) -> str:
    return repr(value)[:80]


def _refuse(strange: Counter[Any], called: str, kind: str, reason: str) -> None:
    if strange:
        named = ", ".join(f"{value} ({count})" for value, count in strange.most_common(SHOWN))
        more = f" and {len(strange) - SHOWN} more" if len(strange) > SHOWN else ""
        raise InputError(
            f"{called} has {sum(strange.values())} detections with a {kind}_id that {reason}: {named}{more}"
        )
