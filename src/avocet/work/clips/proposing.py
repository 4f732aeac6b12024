"""A model proposes the objects of a clip: found on its frames, linked, and told by few boxes each."""

from collections.abc import Sequence

import numpy as np
from sqlalchemy.orm import Session

from avocet.core.boxes import clip as cut
from avocet.core.boxes import iou_of_pairs
from avocet.core.errors import InputError
from avocet.core.tracks.linking import Track
from avocet.core.tracks.trajectory import few_boxes, steadied
from avocet.media.frames import FrameReader
from avocet.store.clip_tables import ClipTrack, Standing, delete_track
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Clip, Job
from avocet.work.clips.clips import clip_path, get_clip, stretch
from avocet.work.clips.frames import frames_of_clip
from avocet.work.clips.tracks import (
    SetBox,
    TrackLabels,
    labels_of_track,
    tracks_of_clip,
    write_track,
)
from avocet.work.job_givens import TracksToPropose
from avocet.work.job_kinds import PROPOSE_TRACKS, Task
from avocet.work.job_outcomes import TracksProposed
from avocet.work.jobs import create_job
from avocet.work.labels.classes import list_classes
from avocet.work.models.chosen import check_class_map, chosen_model
from avocet.work.models.opening import open_bundles
from avocet.work.progress import Stopped
from avocet.work.use.proposals import model_named
from avocet.work.use.running.looking import Looker
from avocet.work.use.running.objects import ClipObjects
from avocet.work.use.running.order import DetectionOrder

TOGETHER = 8

LEAST_IOU = 0.9
"""A proposed box is off by no more than this from what the model found, by the boxes that are set."""

SAME = 0.5
"""IoU over the frames that two objects share from which they are one."""

BRIDGED = 10
"""Frames on which an object is not found that are taken for seen: a model misses one now and then."""


def start_proposing_tracks(session: Session, folder: DataFolder, given: TracksToPropose) -> Job:
    """Record a job that proposes the objects of a clip.

    Raises
    ------
    NotFound, InputError
        If there is no such clip or model, or the model is another project's.
    """
    clip = get_clip(session, given.clip_id)
    model = chosen_model(session, folder, given.run_id, given.ensemble_id)
    if model.project_id != clip.project_id:
        raise InputError(f"{model.name} is a model of another project")
    check_class_map(session, clip.project_id, given.class_map)
    return create_job(
        session, clip.project_id, PROPOSE_TRACKS, f"{model.name} proposes objects of {clip.name}", given
    )


def do_propose_tracks(task: Task[TracksToPropose]) -> TracksProposed:
    """Look at every frame, link, and keep what is new; only at the end, so that a stop leaves nothing half."""
    given, folder = task.given, task.folder
    name = model_named(given.run_id, given.ensemble_id)
    with reading(task.sessions)() as session:
        clip = get_clip(session, given.clip_id)
        bundles = chosen_model(session, folder, given.run_id, given.ensemble_id).bundles
        here = {each.name: each.id for each in list_classes(session, clip.project_id)}
    looker = Looker(
        finder := open_bundles(bundles),
        DetectionOrder.for_model(finder.about, {"minimum_score": given.minimum_score}),
    )
    named = {each: given.class_map.get(each, each) for each in looker.classes}
    classes = {each: here[name] for each, name in named.items() if name in here}
    missing = [each for each in looker.classes if each not in classes]
    if len(missing) == len(looker.classes):
        raise InputError(
            f"the model knows {', '.join(missing)[:200]}, and the project has none of these classes"
        )
    index = frames_of_clip(folder, clip)
    first, last = stretch(clip, len(index))
    objects = ClipObjects(clip.name, looker.least, looker.order.overlap_limit, 0)
    numbers = {each: place for place, each in enumerate(looker.classes)}
    with FrameReader(clip_path(folder, clip), index, clip.name) as reader:
        for start in range(first, last + 1, TOGETHER):
            if task.reporter.should_stop():
                raise Stopped
            some = range(start, min(start + TOGETHER, last + 1))
            frames = {number: frame for number in some if (frame := reader.readable(number)) is not None}
            rows = looker.look([each.pixels for each in frames.values()])
            seen = dict(zip(frames, rows, strict=True))
            for number in some:
                # On a damaged frame nothing is found: what moves on is waited for.
                row = seen.get(number, {"detections": [], "others": []})
                objects.step({**row, "frame": number, "seconds": float(index.seconds[number])}, numbers)
            done, all_of_it = some[-1] + 1 - first, last + 1 - first
            task.reporter.progress(done, all_of_it, f"{done:,} of {all_of_it:,} frames")
    found = [
        proposed_track(each, objects.frames, classes[looker.classes[each.kind]], name, clip)
        for each in objects.tracks()
        if looker.classes[each.kind] in classes
    ]
    with task.sessions.begin() as session:
        there = tracks_of_clip(session, clip.id)
        # What waits from this model is replaced by what it says now.
        for old in [each for each in there if each.standing == Standing.PROPOSED and each.model == name]:
            delete_track(session, old)
            there.remove(old)
        session.flush()
        known = [labels_of_track(each) for each in there]
        number = max((each.number for each in there), default=0)
        begun = session.get_one(Clip, clip.id).gone_revision + 1
        added = 0
        for labels in found:
            if any(same_object(labels, each) for each in known):
                continue
            added, number = added + 1, number + 1
            made = ClipTrack(clip_id=clip.id, number=number, revision=begun)
            write_track(made, labels)
            session.add(made)
    return TracksProposed(tracks=added, known=len(found) - added, frames=last + 1 - first)


def proposed_track(
    track: Track, looked_at: Sequence[int], class_id: int, model: str, clip: Clip
) -> TrackLabels:
    """A linked track as few set boxes, in sight where it was found and over short gaps.

    ``looked_at`` says which frame of the clip each of those is that were linked.
    """
    frames = np.asarray(looked_at, dtype=np.int64)[track.frames]
    breaks = np.flatnonzero(np.diff(frames) > BRIDGED)
    firsts, lasts = np.r_[0, breaks + 1], np.r_[breaks, len(frames) - 1]
    sets, spans = [], []
    for first, last in zip(firsts.tolist(), lasts.tolist(), strict=True):
        seen = slice(first, last + 1)
        numbers = frames[seen]
        boxes = cut(steadied(numbers, track.boxes[seen]), clip.width, clip.height)
        sets += [
            SetBox(int(numbers[place]), tuple(np.round(boxes[place], 2).tolist()), origin=model)
            for place in few_boxes(numbers, boxes, LEAST_IOU)
        ]
        spans.append((int(numbers[0]), int(numbers[-1])))
    weakest = frames[int(track.scores.argmin())]
    return TrackLabels(class_id, spans, sets, unsure=[int(weakest)], model=model, standing=Standing.PROPOSED)


def same_object(one: TrackLabels, other: TrackLabels) -> bool:
    """Whether two tracks lie on one another where both are in sight."""
    first = max(one.spans[0][0], other.spans[0][0])
    last = min(one.spans[-1][1], other.spans[-1][1])
    if last < first:
        return False
    frames = np.unique(np.linspace(first, last, 24).astype(np.int64))
    ours, theirs = one.trajectory(), other.trajectory()
    both = ours.in_sight(frames) & theirs.in_sight(frames)
    if not both.any():
        return False
    overlap = iou_of_pairs(ours.boxes_at(frames[both]), theirs.boxes_at(frames[both]))
    return bool(overlap.mean() >= SAME)
