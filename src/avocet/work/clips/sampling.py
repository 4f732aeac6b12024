"""Frames of a clip taken into the project as pictures, with the boxes that its tracks have there."""

import math
from collections.abc import Container, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.tracks.newness import Newness
from avocet.files import write_bytes
from avocet.media.frames import FrameIndex, FrameReader
from avocet.media.pictures import encode_png
from avocet.readable import so_many
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Change, Clip, Picture, PictureState
from avocet.work.clips.clips import clip_path, frame_name, get_clip
from avocet.work.clips.frames import frames_of_clip
from avocet.work.clips.tracks import TrackLabels, labels_of_track, tracks_of_clip
from avocet.work.job_givens import ClipFrames
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FramesPlanned, FramesTaken
from avocet.work.labels.boxes import NewBox, usable_boxes
from avocet.work.labels.changes import begin_change
from avocet.work.labels.many import Rewritten, change_labels
from avocet.work.labels.rows import PictureRow
from avocet.work.labels.states import fitting_state
from avocet.work.pictures.adding import Arrival, take_picture
from avocet.work.progress import Reporter, Stopped

MOST_SAMPLED = 5000
"""Frames taken from one clip at once."""


def do_sampling(task: Task[ClipFrames]) -> FramesTaken:
    """Take frames from a clip in the background."""
    return sample_clip(task.sessions, task.folder, task.given, task.reporter)


def sample_clip(
    sessions: Sessions,
    folder: DataFolder,
    given: ClipFrames,
    reporter: Reporter,
    numbers: Sequence[int] | None = None,
) -> FramesTaken:
    """Take frames from a clip into the project as pictures, exactly as they are.

    Which, ``given`` says, unless their ``numbers`` are known already.

    Every frame is stored as soon as it is decoded: a stop or a kill keeps what there is, and a
    second run adds only what is missing. Boxes of the clip's tracks come to all of its pictures at the end, as
    one change that can be undone; pictures on which somebody drew a box by hand keep theirs.

    Raises
    ------
    InputError
        If the clip cannot be read, or there is no such frame.
    """
    with reading(sessions)() as session:
        clip = get_clip(session, given.clip_id)
        there = pictures_of_clip(session, clip.id)
    added = known = 0
    index = frames_of_clip(folder, clip)
    with FrameReader(clip_path(folder, clip), index, clip.name) as reader:
        chosen = (
            _chosen(reader, index, clip, given, reporter) if numbers is None else _each(numbers, reporter)
        )
        for number in chosen:
            if number in there:
                known += 1
            elif (frame := reader.readable(number)) is not None:
                fresh = _take(sessions, folder, clip, number, frame.pixels)
                added, known = added + fresh, known + (not fresh)
            if added + known > MOST_SAMPLED:
                raise InputError(
                    f"{clip.name} gives more than {MOST_SAMPLED:,} frames; the first are kept. Take fewer."
                )
    if not added + known:
        raise InputError(f"{clip.name} holds no frame that can be read there")
    boxes = boxes_to_pictures(sessions, clip, given.finished, reporter)
    return FramesTaken(added=added, already_there=known, boxes=boxes)


def do_planning(task: Task[ClipFrames]) -> FramesPlanned:
    """Which frames would be taken; nothing is."""
    return FramesPlanned(frames=planned_frames(task.sessions, task.folder, task.given, task.reporter))


def planned_frames(
    sessions: Sessions, folder: DataFolder, given: ClipFrames, reporter: Reporter
) -> list[int]:
    """The numbers of the frames that `sample_clip` would take, rising."""
    with reading(sessions)() as session:
        clip = get_clip(session, given.clip_id)
    index = frames_of_clip(folder, clip)
    with FrameReader(clip_path(folder, clip), index, clip.name) as reader:
        return list(_chosen(reader, index, clip, given, reporter))


def thinned(clip: Clip, finished: bool = False) -> ClipFrames:
    """The frames of a clip that a person chose to be learnt from."""
    return ClipFrames(
        clip_id=clip.id,
        per_second=clip.per_second,
        differing=clip.differing,
        first=clip.first,
        last=clip.last,
        finished=finished,
    )


def _each(numbers: Sequence[int], reporter: Reporter) -> Iterator[int]:
    for place, number in enumerate(numbers):
        if reporter.should_stop():
            raise Stopped
        yield number
        reporter.progress(place + 1, len(numbers), f"{so_many(place + 1, 'frame')} taken")


def _chosen(
    reader: FrameReader, index: FrameIndex, clip: Clip, given: ClipFrames, reporter: Reporter
) -> Iterator[int]:
    """The frames that are taken, one after the other; where they must differ each is looked at."""
    last = len(index) - 1 if given.last is None else given.last
    if not 0 <= given.first <= last < len(index):
        raise InputError(f"{clip.name} has frames 0 to {len(index) - 1}, not {given.first} to {last}")
    numbers = sampled_frames(index.seconds, given.per_second, given.first, last)
    wanted = Newness(given.differing) if given.differing is not None else None
    taken = 0
    for place, number in enumerate(numbers):
        if reporter.should_stop():
            raise Stopped
        if wanted is not None:
            frame = reader.readable(number)
            if frame is None or not wanted.is_new(frame.pixels):
                continue
        taken += 1
        yield number
        reporter.progress(place + 1, len(numbers), f"{so_many(taken, 'frame')} taken")


def sampled_frames(
    seconds: NDArray[np.float64], per_second: float | None, first: int, last: int
) -> list[int]:
    """Which frames are taken: every one, or about so many a second of the clip's own time.

    Examples
    --------
    >>> sampled_frames(np.arange(10) / 10, 2.5, 1, 9)
    [1, 5, 9]
    """
    if per_second is None:
        return list(range(first, last + 1))
    if not (math.isfinite(per_second) and per_second > 0):
        raise InputError(f"frames a second must be above 0, not {per_second}")
    # Half a frame of tolerance: stamps are rounded to the clip's own unit of time.
    slack = 0.5 * float(np.median(np.diff(seconds))) if len(seconds) > 1 else 0.0
    slots = np.floor((seconds[first : last + 1] - seconds[first] + slack) * per_second)
    _, places = np.unique(slots, return_index=True)
    return [first + int(place) for place in places]


def pictures_of_clip(session: Session, clip_id: int) -> dict[int, int]:
    """The pictures that were taken from a clip: by the number of the frame."""
    query = select(Picture.frame_number, Picture.id).where(
        Picture.clip_id == clip_id, Picture.frame_number.is_not(None)
    )
    return {frame: number for frame, number in session.execute(query) if frame is not None}


def boxes_to_pictures(sessions: Sessions, clip: Clip, finished: bool, reporter: Reporter) -> int:
    """Give the clip's pictures the boxes of its tracks, as one change; returns how many boxes they have then.

    Pictures with a box that is of no track were labelled by themselves, and stay as they are. Whether all objects
    of the clip are labelled, so that pictures are done and such without a box hold nothing, a person says.
    """
    with reading(sessions)() as session:
        tracks = {
            row.number: labels_of_track(row) for row in tracks_of_clip(session, clip.id, kept_only=True)
        }
        frames = {picture: frame for frame, picture in pictures_of_clip(session, clip.id).items()}
    if not tracks or not frames:
        return 0
    counted: dict[int, int] = {}
    boxes = boxes_on(tracks, sorted(frames.values()))
    classes = {each.class_id for each in tracks.values()}
    edit = partial(
        _with_tracks, boxes=boxes, classes=classes, frames=frames, finished=finished, counted=counted
    )
    with sessions.begin() as session:
        change_id = begin_change(session, clip.project_id, f"Boxes of {clip.name} on its pictures").id
    changed = change_labels(sessions, change_id, sorted(frames), edit, reporter)
    if not changed:
        _forget(sessions, change_id)
    return sum(counted.values())


BoxOn = tuple[int, TrackLabels, tuple[float, float, float, float]]
"""The number of an object, what is said of it, and its corners on a frame."""


def boxes_on(tracks: Mapping[int, TrackLabels], frames: Sequence[int]) -> dict[int, list[BoxOn]]:
    """The boxes of all objects that are in sight, by frame and in the order of their numbers."""
    found: dict[int, list[BoxOn]] = {frame: [] for frame in frames}
    for number, labels in sorted(tracks.items()):
        way = labels.trajectory()
        seen = np.asarray(frames, dtype=np.int64)[way.in_sight(frames)]
        for frame, (x1, y1, x2, y2) in zip(seen.tolist(), way.boxes_at(seen).tolist(), strict=True):
            found[frame].append((number, labels, (x1, y1, x2, y2)))
    return found


def _with_tracks(
    row: PictureRow,
    boxes: Mapping[int, list[BoxOn]],
    classes: Container[int],
    frames: Mapping[int, int],
    finished: bool,
    counted: dict[int, int],
) -> Rewritten | None:
    if any(box.track is None for box in row.boxes):
        return None
    frame = frames[row.id]
    made = usable_boxes(
        [
            NewBox(
                labels.class_id,
                corners,
                attributes=labels.attributes_at(frame),
                track=number,
                origin=labels.origin_at(frame),
            )
            for number, labels, corners in boxes[frame]
        ],
        classes,
        row.name,
        row.width,
        row.height,
    )
    counted[row.id] = len(made)
    state = fitting_state(PictureState.DONE if finished else PictureState.IN_PROGRESS, bool(made))
    return None if (row.state, row.boxes) == (state, made) else Rewritten(made, state)


def _forget(sessions: Sessions, change_id: int) -> None:
    """A change that met no picture is none."""
    with sessions.begin() as session:
        session.delete(session.get_one(Change, change_id))


def _take(sessions: Sessions, folder: DataFolder, clip: Clip, number: int, pixels: NDArray[np.uint8]) -> bool:
    incoming = folder.incoming / f"clip-{clip.id}-frame.png"
    write_bytes(incoming, encode_png(pixels))
    arrival = Arrival(
        incoming, frame_name(clip, number), source=Path(clip.name).stem, clip=clip, frame_number=number,
        keep="move",
    )  # fmt: skip
    taken = take_picture(sessions, folder, clip.project_id, arrival)
    incoming.unlink(missing_ok=True)
    return taken.fresh
