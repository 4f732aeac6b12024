"""The objects of a clip read from a file of labels: boxes with a track number become tracks again."""

from collections import defaultdict
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.tracks.trajectory import few_boxes
from avocet.formats.kinds import read_labels
from avocet.formats.record import Record, RecordedBox
from avocet.store.clip_tables import Standing
from avocet.store.database import reading
from avocet.store.tables import Clip
from avocet.work.clips.clips import frame_number, get_clip
from avocet.work.clips.frames import frames_of_clip
from avocet.work.clips.tracks import SetBox, TrackLabels, tracks_as_change
from avocet.work.job_givens import TracksToTake
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import TracksTaken
from avocet.work.labels.classes import ensure_classes
from avocet.work.pictures.staging import staged_labels, unstage

NEARLY = 0.999
"""What was drawn between set boxes comes back as such: boxes in between that are the same are not set anew."""

MOST_TOLD = 50


def do_take_tracks(task: Task[TracksToTake]) -> TracksTaken:
    """Take a clip's objects from a file that was sent, unless it asks something first."""
    given = task.given
    with reading(task.sessions)() as session:
        clip = get_clip(session, given.clip_id)
    frames = len(frames_of_clip(task.folder, clip))
    with staged_labels(task.folder, given.token) as files:
        _, record = read_labels(files, key=given.format, corners=given.corners)
    if record.asks:
        unstage(task.folder, given.token)
        return TracksTaken(tracks=0, boxes=0, left_out=[], asks=record.asks)
    with task.sessions.begin() as session:
        taken = take_tracks(session, get_clip(session, given.clip_id), frames, record)
    unstage(task.folder, given.token)
    return taken


def take_tracks(session: Session, clip: Clip, frames: int, record: Record) -> TracksTaken:
    """Add the objects of a record to a clip, under numbers of their own.

    The number of a frame is the last one in the name of its picture.

    Raises
    ------
    InputError
        If no box has a track number, or none is on a frame of the clip.
    """
    seen: dict[tuple[int, int], list[tuple[int, RecordedBox]]] = defaultdict(list)
    left_out = list(record.faults)
    listed = set()
    for picture in record.pictures:
        frame = frame_number(picture.name)
        if frame is None or frame >= frames:
            left_out.append(f"{picture.name} is no frame of {clip.name}, which has 0 to {frames - 1}")
            continue
        if (picture.width, picture.height) not in ((0, 0), (clip.width, clip.height)):
            left_out.append(
                f"{picture.name} has {picture.width}×{picture.height} pixels, the clip {clip.width}×{clip.height}"
            )
            continue
        listed.add(frame)
        for box in picture.boxes:
            if box.track is None:
                left_out.append(f"a box of {record.class_names[box.label]} on {picture.name} has no track")
            else:
                seen[box.track, box.label].append((frame, box))
    if not seen:
        raise InputError(
            f"no box with a track lies on a frame of {clip.name}. {' '.join(left_out[:1])}".strip()
        )
    ids = [each.id for each in ensure_classes(session, clip.project_id, record.class_names)]
    rows = sorted(listed)
    taken = [_labels(ids[label], boxes, rows) for (_, label), boxes in sorted(seen.items())]
    change = tracks_as_change(session, clip, frames, taken, f"Objects of {clip.name} from a file")
    return TracksTaken(
        tracks=len(taken),
        boxes=sum(map(len, seen.values())),
        left_out=left_out[:MOST_TOLD],
        notes=record.notes,
        change_id=change,
        asks="",
    )


def _labels(class_id: int, boxes: list[tuple[int, RecordedBox]], listed: list[int]) -> TrackLabels:
    """One object's boxes as few set ones; it is out of sight on frames that the file lists without it."""
    by_frame = dict(sorted(boxes, key=lambda each: each[0]))
    frames = list(by_frame)
    corners = np.array([each.corners for each in by_frame.values()], dtype=np.float64)
    place_of = {frame: place for place, frame in enumerate(listed)}
    places = np.array([place_of[frame] for frame in frames])
    breaks = np.flatnonzero(np.diff(places) > 1)
    firsts, lasts = np.r_[0, breaks + 1], np.r_[breaks, len(frames) - 1]
    sets: list[SetBox] = []
    spans: list[tuple[int, int]] = []
    attributes: list[tuple[int, dict[str, Any]]] = []
    for first, last in zip(firsts.tolist(), lasts.tolist(), strict=True):
        part = few_boxes(frames[first : last + 1], corners[first : last + 1], NEARLY) + first
        sets += [SetBox(frames[each], tuple(corners[each].tolist()), origin="imported") for each in part]
        spans.append((frames[first], frames[last]))
    for frame, box in by_frame.items():
        if not attributes or attributes[-1][1] != box.attributes:
            attributes.append((frame, box.attributes))
    said = [each for each in attributes if each[1]]
    return TrackLabels(class_id, spans, sets, attributes if said else [], standing=Standing.KEPT)
