"""Boxes carried through the next frames: followed by what they hold until lost, to a frame, or to the next set box."""

from collections.abc import Sequence

from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.tracks.carried import Way, carried_on
from avocet.formats.record import fit_box
from avocet.media.frames import FrameIndex, FrameReader
from avocet.store.database import reading
from avocet.store.tables import Job
from avocet.work.clips.clips import clip_path, get_clip, stretch
from avocet.work.clips.following import Told, follow_boxes
from avocet.work.clips.frames import frames_of_clip
from avocet.work.job_givens import BoxToCarry, ToCarry
from avocet.work.job_kinds import CARRY, Task
from avocet.work.job_outcomes import Carried, CarriedBox
from avocet.work.jobs import create_job

MOST_AHEAD = 3000
"""Frames that are gone through at once, at most."""


def start_carrying(session: Session, given: ToCarry) -> Job:
    """Record a job that carries boxes on from one frame of a clip.

    Raises
    ------
    InputError
        If there is nothing to carry, or nowhere to.
    """
    clip = get_clip(session, given.clip_id)
    if given.to == given.frame:
        raise InputError("there is no frame between here and there")
    if not given.boxes:
        raise InputError("no box is selected to carry on")
    for each in given.boxes:
        for box in (each.box, each.target):
            reason = "" if box is None else fit_box(box, clip.width, clip.height)[1]
            if reason:
                raise InputError(f"the box of object {each.number} {reason}")
    several = f"{len(given.boxes)} objects" if len(given.boxes) > 1 else "an object"
    return create_job(session, clip.project_id, CARRY, f"Carry {several} of {clip.name} on", given)


def do_carry(task: Task[ToCarry]) -> Carried:
    """Follow each box; who stops it gets what there is so far."""
    given = task.given
    with reading(task.sessions)() as session:
        clip = get_clip(session, given.clip_id)
    index = frames_of_clip(task.folder, clip)
    first, last = stretch(clip, len(index))
    target = max(last, given.frame) if given.to is None else given.to
    if not 0 <= given.frame < len(index) or not 0 <= target < len(index):
        raise InputError(f"{clip.name} has frames 0 to {len(index) - 1}")
    step = 1 if target >= given.frame else -1
    if given.to is None and given.back:
        target, step = min(first, given.frame), -1
    numbers = list(range(given.frame, target + step, step))[: MOST_AHEAD + 1]
    if len(numbers) < 2:
        raise InputError(f"{clip.name} {'begins' if step < 0 else 'ends'} here")
    with FrameReader(clip_path(task.folder, clip), index, clip.name) as reader:
        pinned = [each for each in given.boxes if each.target is not None]
        total = len(numbers) * (2 if pinned else 1)
        told = Told(task.reporter, total)
        ways = follow_boxes(reader, numbers, [each.box for each in given.boxes], told)
        # The other way from where they are known to be, as far as there was no stop.
        back = follow_boxes(
            reader, numbers[::-1], [each.target for each in pinned if each.target is not None], told
        )
    returns = {each.number: way for each, way in zip(pinned, back, strict=True)}
    found = [
        _told(each, numbers, way, returns.get(each.number), given.least_iou, index)
        for each, way in zip(given.boxes, ways, strict=True)
    ]
    return Carried(clip_id=clip.id, frame=given.frame, stopped=told.stopped, objects=found)


def _told(
    asked: BoxToCarry,
    numbers: Sequence[int],
    way: Way,
    back: Way | None,
    least_iou: float,
    index: FrameIndex,
) -> CarriedBox:
    size, last = (index.width, index.height), len(index) - 1
    found = carried_on(asked.box, numbers, way, size, least_iou, last, asked.target, back)
    return CarriedBox(
        number=asked.number,
        ended=found.ended,
        frames=found.frames.tolist(),
        boxes=[tuple(each) for each in found.boxes.tolist()],
        spans=found.spans,
        unsure=found.unsure,
        sureness=found.sureness,
        followed=found.followed,
    )
