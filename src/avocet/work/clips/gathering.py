"""The boxes that were drawn on single frames of a clip gathered into objects: a clip labelled as pictures becomes one
that is labelled as a clip."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import pairwise

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.tracks.carried import Way, carried_on
from avocet.core.tracks.meeting import met
from avocet.media.frames import FrameIndex, FrameReader
from avocet.store.database import reading
from avocet.store.tables import Clip, LabelledAs, Picture
from avocet.work.clips.clips import clip_path, get_clip
from avocet.work.clips.following import Corners, Told, follow_boxes
from avocet.work.clips.frames import frames_of_clip
from avocet.work.clips.proposing import same_object
from avocet.work.clips.tracks import SetBox, TrackLabels, labels_of_track, tracks_as_change, tracks_of_clip
from avocet.work.job_givens import ClipToGather
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import TracksGathered
from avocet.work.labels.boxes import CARRIED
from avocet.work.labels.rows import PictureRow, picture_rows
from avocet.work.labels.states import BEGUN
from avocet.work.progress import Stopped

LEAST_IOU = 0.9
"""No box between two labelled ones is off by more than this from where the object was followed to."""


@dataclass
class _Drawn:
    """A box that was drawn on a frame."""

    frame: int
    class_id: int
    corners: Corners
    origin: str
    attributes: dict[str, object]


@dataclass
class _Gathered:
    """One object so far: its boxes, and what following it between them gave."""

    boxes: list[_Drawn]
    sets: list[SetBox] = field(default_factory=list)
    spans: list[tuple[int, int]] = field(default_factory=list)
    unsure: list[int] = field(default_factory=list)


def do_gather(task: Task[ClipToGather]) -> TracksGathered:
    """Follow each box to the next labelled frame and see which one it is there.

    Nothing is written before the end. Boxes on pictures stay as they are; what is an object of the clip already does
    not become one twice.

    Raises
    ------
    InputError
        If no box is drawn on a picture of the clip.
    """
    with reading(task.sessions)() as session:
        clip = get_clip(session, task.given.clip_id)
        drawn = _drawn(session, clip)
        known = [labels_of_track(each) for each in tracks_of_clip(session, clip.id, kept_only=True)]
    if not any(drawn.values()):
        raise InputError(f"no box is drawn on a picture of {clip.name}")
    index = frames_of_clip(task.folder, clip)
    frames = [frame for frame in sorted(drawn) if frame < len(index)]
    told = Told(task.reporter, max(1, 2 * (frames[-1] - frames[0])))
    objects: list[_Gathered] = []
    going = [_Gathered([each]) for each in drawn[frames[0]]]
    with FrameReader(clip_path(task.folder, clip), index, clip.name) as reader:
        for here, there in pairwise(frames):
            pairs = _followed(reader, index, going, drawn[there], range(here, there + 1), told)
            if told.stopped:
                raise Stopped
            met_now = {place: one for one, place in pairs}
            objects += [each for place, each in enumerate(going) if place not in met_now.values()]
            going = [
                going[met_now[place]] if place in met_now else _Gathered([each])
                for place, each in enumerate(drawn[there])
            ]
    made = [_labels(each) for each in [*objects, *going]]
    fresh = [each for each in made if not any(same_object(each, old) for old in known)]
    with task.sessions.begin() as session:
        clip = get_clip(session, task.given.clip_id)
        clip.labelled_as = LabelledAs.OBJECTS
        change = tracks_as_change(
            session, clip, len(index), fresh, f"Boxes on pictures of {clip.name} as objects"
        )
    return TracksGathered(
        tracks=len(fresh),
        known=len(made) - len(fresh),
        boxes=sum(len(each.boxes) for each in [*objects, *going]),
        pictures=len(frames),
        change_id=change,
    )


def _drawn(session: Session, clip: Clip) -> dict[int, list[_Drawn]]:
    """What is drawn on the clip's pictures that somebody worked on, by frame; one without a box says that nothing is
    there."""
    wanted = (
        Picture.clip_id == clip.id,
        Picture.frame_number.is_not(None),
        Picture.binned_at.is_(None),
        Picture.state.in_(BEGUN),
    )
    query = select(Picture.id, Picture.frame_number).where(*wanted)
    frames: dict[int, int] = {number: frame for number, frame in session.execute(query) if frame is not None}
    rows: Sequence[PictureRow] = picture_rows(session, list(wanted))
    return {
        frames[row.id]: [
            _Drawn(frames[row.id], box.class_id, box.corners, box.origin, box.attributes)
            for box in row.boxes
            if box.track is None and not box.crowd
        ]
        for row in rows
    }


def _followed(
    reader: FrameReader,
    index: FrameIndex,
    going: Sequence[_Gathered],
    there: Sequence[_Drawn],
    numbers: range,
    told: Told,
) -> list[tuple[int, int]]:
    """Which object is which box on the next labelled frame; what lies between them is told to the object."""
    if any(reader.readable(end) is None for end in (numbers[0], numbers[-1])):
        return []
    ways = follow_boxes(reader, numbers, [each.boxes[-1].corners for each in going], told)
    arrived = [place for place, way in enumerate(ways) if len(way.steps) == len(numbers) - 1]
    pairs = met(
        [ways[place].steps[-1].box for place in arrived],
        [going[place].boxes[-1].class_id for place in arrived],
        [each.corners for each in there],
        [each.class_id for each in there],
    )
    found = [(arrived[one], place) for one, place in pairs]
    back = follow_boxes(reader, numbers[::-1], [there[place].corners for _, place in found], told)
    for (one, place), returned in zip(found, back, strict=True):
        _tell(going[one], ways[one], returned, there[place], numbers, index)
    return found


def _tell(gathered: _Gathered, way: Way, back: Way, there: _Drawn, numbers: range, index: FrameIndex) -> None:
    last = gathered.boxes[-1]
    size = (index.width, index.height)
    found = carried_on(last.corners, numbers, way, size, LEAST_IOU, len(index) - 1, there.corners, back)
    gathered.sets += [
        SetBox(frame, tuple(box), origin=CARRIED)
        for frame, box in zip(found.frames.tolist(), found.boxes.tolist(), strict=True)
        if frame not in (last.frame, there.frame)
    ]
    gathered.spans += found.spans
    gathered.unsure += found.unsure
    gathered.boxes.append(there)


def _labels(gathered: _Gathered) -> TrackLabels:
    """An object as it is kept: what was drawn is set as it was drawn."""
    sets = gathered.sets + [
        SetBox(each.frame, each.corners, origin=each.origin or "imported") for each in gathered.boxes
    ]
    spans: list[tuple[int, int]] = []
    for first, last in sorted(gathered.spans) or [(gathered.boxes[0].frame, gathered.boxes[0].frame)]:
        if spans and first <= spans[-1][1] + 1:
            spans[-1] = (spans[-1][0], max(last, spans[-1][1]))
        else:
            spans.append((first, last))
    said: list[tuple[int, dict[str, object]]] = []
    for each in gathered.boxes:
        if each.attributes != (said[-1][1] if said else {}):
            said.append((each.frame, each.attributes))
    return TrackLabels(
        gathered.boxes[0].class_id,
        spans,
        sorted(sets, key=lambda each: each.frame),
        said,
        sorted(set(gathered.unsure)),
    )
