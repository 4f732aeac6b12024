"""Boxes carried through the next frames: followed by what they hold until lost, to a frame, or to the next set box."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from avocet.core.boxes import iou_of_pairs
from avocet.core.errors import InputError
from avocet.core.tracks.following import UNSURE, Followed, Follower
from avocet.core.tracks.trajectory import few_boxes
from avocet.formats.record import fit_box
from avocet.media.frames import FrameIndex, FrameReader
from avocet.store.database import reading
from avocet.store.tables import Job
from avocet.work.clips.clips import clip_path, get_clip
from avocet.work.clips.frames import frames_of_clip
from avocet.work.job_givens import BoxToCarry, ToCarry
from avocet.work.job_kinds import CARRY, Task
from avocet.work.job_outcomes import Carried, CarriedBox
from avocet.work.jobs import create_job

MOST_AHEAD = 3000
"""Frames that are gone through at once, at most."""

GLIMPSE = 3
"""Where the object is found again it is found on so many frames at least."""

AWAY = 4
"""Pixels from the edge of the picture from which a box is not cut by it any more."""

AGREED = 0.5
"""Where following from both ends differs by more than this IoU, a person should look."""


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
    target = len(index) - 1 if given.to is None else given.to
    if not 0 <= given.frame < len(index) or not 0 <= target < len(index):
        raise InputError(f"{clip.name} has frames 0 to {len(index) - 1}")
    step = 1 if target >= given.frame else -1
    if given.to is None and given.back:
        target, step = 0, -1
    numbers = list(range(given.frame, target + step, step))[: MOST_AHEAD + 1]
    if len(numbers) < 2:
        raise InputError(f"{clip.name} {'begins' if step < 0 else 'ends'} here")
    with FrameReader(clip_path(task.folder, clip), index, clip.name) as reader:
        pinned = [each for each in given.boxes if each.target is not None]
        total = len(numbers) * (2 if pinned else 1)
        told = _Told(task, total)
        ways = _follow(reader, numbers, given.boxes, told)
        # The other way from where they are known to be, as far as there was no stop.
        back = _follow(
            reader, numbers[::-1], [BoxToCarry(number=each.number, box=each.target) for each in pinned if each.target],
            told,
        )  # fmt: skip
    returns = {each.number: way for each, way in zip(pinned, back, strict=True)}
    found = [
        _told_of(each, numbers, way, returns.get(each.number), given.least_iou, index)
        for each, way in zip(given.boxes, ways, strict=True)
    ]
    return Carried(clip_id=clip.id, frame=given.frame, stopped=told.stopped, objects=found)


Ended = Literal["there", "lost", "left", "clip", "damaged"]


class _Told:
    """How far it is, and whether to stop."""

    def __init__(self, task: Task[ToCarry], total: int) -> None:
        self._task, self._total, self._done = task, total, 0
        self.stopped = False

    def frame(self) -> bool:
        """One more frame is done; returns whether to go on."""
        self._done += 1
        self._task.reporter.progress(self._done, self._total, f"{self._done} of {self._total} frames")
        self.stopped = self.stopped or self._task.reporter.should_stop()
        return not self.stopped


@dataclass
class _Way:
    """What following one box gave: one step for every frame after the first, and why it ended."""

    steps: list[Followed]
    ended: Ended = "there"


def _follow(
    reader: FrameReader, numbers: Sequence[int], boxes: Sequence[BoxToCarry], told: _Told
) -> list[_Way]:
    """Follow several boxes at once, each frame read once."""
    ways = [_Way([]) for _ in boxes]
    if not boxes or told.stopped:
        return ways
    frames = _frames(reader, numbers)
    first = next(frames, None)
    if first is None:
        raise InputError(f"frame {numbers[0]} is damaged; begin on another")
    followers = [Follower(first, each.box) for each in boxes]
    open_ways = set(range(len(boxes)))
    count = 0
    for pixels in frames:
        count += 1
        for place in sorted(open_ways):
            follower, way = followers[place], ways[place]
            way.steps.append(follower.step(pixels))
            if follower.left(pixels.shape[1], pixels.shape[0]):
                way.ended = "left"
                del way.steps[-1]
            elif follower.lost:
                way.ended = "lost"
            else:
                continue
            open_ways.discard(place)
        if not told.frame() or not open_ways:
            break
    if count < len(numbers) - 1 and open_ways and not told.stopped:
        for place in open_ways:
            ways[place].ended = "damaged"
    return ways


def _frames(reader: FrameReader, numbers: Sequence[int]) -> Iterator[NDArray[np.uint8]]:
    """The frames, up to the first that is damaged."""
    for number in numbers:
        pixels = reader.readable(number)
        if pixels is None:
            return
        yield pixels


def _told_of(
    asked: BoxToCarry,
    numbers: Sequence[int],
    way: _Way,
    back: _Way | None,
    least_iou: float,
    index: FrameIndex,
) -> CarriedBox:
    """What was found of one object: few boxes to set, where it is out of sight, where to look."""
    steps, ended = list(way.steps), way.ended
    glimpses = _glimpses(np.array([True, *(each.seen for each in steps)]))
    steps = [replace(each, seen=each.seen and place + 1 not in glimpses) for place, each in enumerate(steps)]
    pinned = back is not None and len(back.steps) + len(way.steps) + 1 >= len(numbers) - 1
    while not pinned and steps and not steps[-1].seen:
        steps.pop()
    boxes = [np.asarray(each.box) for each in steps]
    sure = [each.sureness for each in steps]
    seen = [each.seen for each in steps]
    if back is not None and pinned:
        boxes, sure, seen, ended = _joined(asked, numbers, replace(way, steps=steps), back)
    frames, asked_at = list(numbers[: len(boxes) + 1]), numbers[0]
    corners = np.vstack([np.asarray(asked.box, dtype=np.float64), *boxes]) if boxes else np.array([asked.box])
    seen, sure = [True, *seen], [1.0, *sure]
    order = np.argsort(frames)
    at = np.array(frames)[order]
    corners, flags, certain = corners[order], np.array(seen)[order], np.array(sure)[order]
    visible = np.flatnonzero(flags)
    grown = _grown(np.asarray(asked.box), [np.asarray(each) for each in boxes], index.width, index.height)
    # Of what leaves the picture less and less is seen: that explains itself.
    edge = {0, len(at) - 1} - {int(np.flatnonzero(at == asked_at)[0])} if ended == "left" else set()
    doubts = {int(at[place]) for place in _worst(certain, flags, edge)}
    if grown is not None and not pinned:
        doubts.add(frames[grown + 1])
    places = visible[few_boxes(at[visible], corners[visible], least_iou)]
    return CarriedBox(
        number=asked.number,
        ended=ended if ended != "there" or not frames or frames[-1] not in (0, len(index) - 1) else "clip",
        frames=[int(each) for each in at[places]],
        boxes=[tuple(np.round(corners[place], 2).tolist()) for place in places],
        spans=[(int(at[first]), int(at[last])) for first, last in _stretches(flags)],
        unsure=sorted(doubts),
        sureness=float(np.round(certain[visible].min(), 3)),
        followed=len(at) - 1,
    )


def _joined(
    asked: BoxToCarry, numbers: Sequence[int], way: _Way, back: _Way
) -> tuple[list[NDArray[np.float64]], list[float], list[bool], Ended]:
    """Both ways together: each counts the more, the nearer its own end is and the surer it was."""
    last = len(numbers) - 1
    # On the way back the steps are those of the frames before the last, the nearest first.
    returned: list[Followed | None] = [None] * (last + 1)
    for place, step in enumerate(back.steps):
        returned[last - 1 - place] = step
    boxes: list[NDArray[np.float64]] = []
    sure: list[float] = []
    seen: list[bool] = []
    met = False
    for place in range(1, last):
        there = way.steps[place - 1] if place <= len(way.steps) else None
        here = returned[place]
        options = [
            (each, near)
            for each, near in ((there, 1 - place / last), (here, place / last))
            if each is not None and each.seen
        ]
        if not options:
            kept = there or here
            boxes.append(
                np.asarray(kept.box) if kept is not None else boxes[-1] if boxes else np.asarray(asked.box)
            )
            sure.append(0.0)
            seen.append(False)
            continue
        weights = np.array([near * max(each.sureness, 1e-3) for each, near in options])
        boxes.append(np.average([each.box for each, _ in options], axis=0, weights=weights))
        both = len(options) == 2
        agreed = not both or iou_of_pairs([options[0][0].box], [options[1][0].box])[0] >= AGREED
        met = met or (both and bool(agreed))
        sure.append(max(each.sureness for each, _ in options) if agreed else 0.0)
        seen.append(True)
    if not met and sure:
        # They have nothing in common: somewhere between it goes over into something else.
        sure[min(len(way.steps), len(sure)) - 1] = 0.0
    boxes.append(np.asarray(asked.target, dtype=np.float64))
    return boxes, [*sure, 1.0], [*seen, True], "there"


def _grown(
    first: NDArray[np.float64], boxes: Sequence[NDArray[np.float64]], width: int, height: int
) -> int | None:
    """The place of the first box that has come away from an edge of the picture which cut it where it was set.

    More of the object is then in sight than the box that is followed holds.
    """
    edges = np.array([0, 0, width, height])
    cut = np.abs(first - edges) < 1
    if not cut.any() or not len(boxes):
        return None
    away = (np.abs(np.array(boxes) - edges)[:, cut] > AWAY).any(axis=1)
    return int(away.argmax()) if away.any() else None


def _glimpses(seen: NDArray[np.bool_]) -> set[int]:
    """Places of sights that are too short to be believed, but for the one that it begins with."""
    return {
        place
        for first, last in _stretches(seen)
        if first and last - first + 1 < GLIMPSE
        for place in range(first, last + 1)
    }


def _stretches(flags: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """First and last place of each run of what is set."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flags, [False]]).astype(np.int8)))
    return [(int(first), int(after) - 1) for first, after in edges.reshape(-1, 2)]


def _worst(sure: NDArray[np.float64], seen: NDArray[np.bool_], edge: set[int]) -> list[int]:
    """Of each stretch that a person should look at, the place where it is worst; none of one that reaches an edge."""
    return [
        first + int(sure[first : last + 1].argmin())
        for first, last in _stretches(seen & (sure < UNSURE))
        if first not in edge and last not in edge
    ]
