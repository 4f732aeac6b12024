"""Objects of a clip: what a detection run found on its frames, linked so that each is counted once."""

import csv
import json
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.detections import PictureDetections
from avocet.core.tracks.linking import Track, link
from avocet.files import replacing, write_text

OBJECTS_JSON, OBJECTS_CSV = "objects.json", "objects.csv"

WEAKER = 0.5
"""Boxes down to this share of the minimum score may carry an object on, though they are not told themselves."""

COLUMNS = (
    "object", "clip", "class", "first_frame", "last_frame", "first_seconds", "last_seconds", "frames_seen",
    "mean_score",
)  # fmt: skip


@dataclass
class FoundInClip:
    """What was found on the frames of one clip, weak boxes among it."""

    name: str
    found: list[PictureDetections] = field(default_factory=list)
    told: list[NDArray[np.bool_]] = field(default_factory=list)
    rows: list[dict[str, Any]] = field(default_factory=list)

    def add(self, found: PictureDetections, told: NDArray[np.bool_], row: dict[str, Any]) -> None:
        """One frame: all boxes, which of them are told, and its row among the results."""
        self.found.append(found)
        self.told.append(told)
        self.rows.append(row)


def link_clip(
    clip: FoundInClip, sure: NDArray[np.float64], classes: Sequence[str], numbered_from: int
) -> list[dict[str, Any]]:
    """The objects of a clip, by first sight; the rows of its boxes get their object's number."""
    objects = []
    for number, track in enumerate(link(clip.found, sure), start=numbered_from):
        for frame, place in zip(track.frames.tolist(), track.places.tolist(), strict=True):
            if clip.told[frame][place]:
                # Rows hold only the boxes that are told, in the same order.
                row = int(clip.told[frame][:place].sum())
                clip.rows[frame]["detections"][row]["object"] = number
        objects.append(_described(clip, track, classes, number))
    return objects


def _described(clip: FoundInClip, track: Track, classes: Sequence[str], number: int) -> dict[str, Any]:
    first, last = (clip.rows[int(track.frames[place])] for place in (0, -1))
    values = (
        number, clip.name, classes[track.kind], first["frame"], last["frame"], first["seconds"], last["seconds"],
        len(track.frames), round(float(track.scores.mean()), 4),
    )  # fmt: skip
    return dict(zip(COLUMNS, values, strict=True))


def write_objects(objects: Sequence[dict[str, Any]], out: Path) -> None:
    """As JSON for the page and other programs, and as CSV."""
    write_text(out / OBJECTS_JSON, json.dumps({"objects": list(objects)}, ensure_ascii=False, indent=1))
    with (
        replacing(out / OBJECTS_CSV) as temporary,
        temporary.open("w", newline="", encoding="utf-8") as opened,
    ):
        writer = csv.DictWriter(opened, COLUMNS)
        writer.writeheader()
        writer.writerows(objects)


def objects_by_class(objects: Sequence[dict[str, Any]], classes: Sequence[str]) -> dict[str, int]:
    """How many objects there are of each class."""
    counts = Counter(each["class"] for each in objects)
    return {name: counts[name] for name in classes}
