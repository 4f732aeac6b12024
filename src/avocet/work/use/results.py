"""What a project's detection run has found: its record, its newest picture, its pictures as they are shown, counts."""

import json
import os
from typing import Any

from avocet.media.pictures import encode_jpeg, no_larger, small_picture
from avocet.store.folder import DataFolder
from avocet.store.tables import Detection
from avocet.work.clips.frames import OpenClips
from avocet.work.problems import NotFound
from avocet.work.use.counting import Shape, count_on
from avocet.work.use.found import Found, LookedAt, clips_of, found_in
from avocet.work.use.running.course import Input
from avocet.work.use.running.objects import TRACKS
from avocet.work.use.running.record import RECORD

TAIL = 2_000_000
"""Bytes at the end of a record in which its last line lies."""


def found_by(folder: DataFolder, detection: Detection) -> Found:
    """What a run has found so far. Raises `NotFound` where it has no record yet."""
    found = found_in(folder.detection(detection.project_id, detection.id))
    if found is None:
        raise NotFound(f"detection run {detection.id} has found nothing yet")
    return found


def newest(folder: DataFolder, detection: Detection) -> tuple[list[str], dict[str, Any] | None]:
    """The classes and the picture that was recorded last, from the end of the record alone; None where there is none."""
    path = folder.detection(detection.project_id, detection.id) / RECORD
    if not path.is_file():
        return [], None
    known = json.loads((path.parent / "order.json").read_text(encoding="utf-8"))
    classes: list[str] = known["model"]["classes"]
    with path.open("rb") as opened:
        size = opened.seek(0, os.SEEK_END)
        opened.seek(max(0, size - TAIL))
        # The first line may be cut, and what stands behind the last line break is not written to its end.
        lines = opened.read().split(b"\n")[(1 if size > TAIL else 0) : -1]
    for line in reversed(lines):
        row = json.loads(line)
        if "problem" not in row:
            rows = row["detections"]
            return classes, {
                "place": 0,
                "name": row["name"],
                "width": row["width"],
                "height": row["height"],
                "frame": row.get("frame"),
                "seconds": row.get("seconds"),
                "annotated": "",
                "boxes": [each["box"] for each in rows],
                "scores": [each["score"] for each in rows],
                "kinds": [classes.index(each["class"]) for each in rows],
                "objects": [0] * len(rows),
            }
    return classes, None


def count_by(
    folder: DataFolder, detection: Detection, shapes: list[Shape], clip: int = 0
) -> list[dict[str, Any]]:
    """What each shape counts on one of a run's clips, as `count_on`.

    Raises
    ------
    NotFound
        If the run has no such clip, or was made before objects were kept.
    """
    found = found_by(folder, detection)
    clips = clips_of(found)
    if not 0 <= clip < len(clips):
        raise NotFound(f"detection run {detection.id} has no clip {clip}")
    path = folder.detection(detection.project_id, detection.id) / TRACKS
    if not path.is_file():
        raise NotFound(f"detection run {detection.id} keeps no objects; run it again to count")
    return count_on(clips[clip], found, path, shapes)


def shown(item: Input, looked: LookedAt, longest: int, clips: OpenClips) -> bytes:
    """A picture or frame as the bytes of a JPEG that is no longer than so many pixels."""
    if looked.frame < 0:
        return encode_jpeg(small_picture(item.path, longest, looked.name, item.white), quality=88)
    return encode_jpeg(no_larger(clips.shown_at(item.path, looked.seconds, looked.name), longest), quality=88)
