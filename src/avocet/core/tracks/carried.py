"""What following an object gave, told by few boxes: where it is in sight, what to set, and where to look."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, iou_of_pairs
from avocet.core.tracks.following import UNSURE, Followed
from avocet.core.tracks.trajectory import few_boxes

GLIMPSE = 3
"""Where the object is found again it is found on so many frames at least."""

AWAY = 4
"""Pixels from the edge of the picture from which a box is not cut by it any more."""

SLIPPED = 0.1
"""Part of its diagonal by which a box has to leave its way, right after an unsure place, for that to be the slip."""

LEAPT = 0.2
"""And from which it is one wherever it is not sure of itself either."""

HALF_SURE = 0.6

LATELY = 5
"""Steps whose median says how an object moves."""

AGREED = 0.5
"""Where following from both ends differs by more than this IoU, a person should look."""

Ended = Literal["there", "lost", "left", "clip", "damaged"]


@dataclass
class Way:
    """What following one box gave: one step for every frame after the first, and why it ended."""

    steps: list[Followed]
    ended: Ended = "there"


@dataclass(frozen=True)
class CarriedOn:
    """Few boxes that tell where an object was followed to.

    Attributes
    ----------
    ended : str
        ``there``, ``lost``, ``left`` the picture, the ``clip`` ended, or a frame is ``damaged``.
    frames : (K,) ndarray of int64
        Frames on which a box is to be set, rising.
    boxes : (K, 4) ndarray of float64
        Those boxes, in pixels of the clip.
    spans : list of (int, int)
        First and last frame of each stretch in which it is in sight.
    unsure : list of int
        Frames that a person should look at.
    sureness : float
        Of the frame in sight that is least sure.
    followed : int
        Frames it was followed over.
    """

    ended: Ended
    frames: NDArray[np.int64]
    boxes: Array
    spans: list[tuple[int, int]]
    unsure: list[int]
    sureness: float
    followed: int


def carried_on(
    box: ArrayLike,
    numbers: Sequence[int],
    way: Way,
    size: tuple[int, int],
    least_iou: float,
    last: int,
    target: ArrayLike | None = None,
    back: Way | None = None,
) -> CarriedOn:
    """What was found of one object: few boxes to set, where it is out of sight, where to look.

    Parameters
    ----------
    box : (4,) array_like
        Where it was on the first frame.
    numbers : sequence of int
        The frames it was to be followed over, in that order; the first is that of ``box``.
    way : Way
    size : (int, int)
        Width and height of the clip in pixels.
    least_iou : float
        No box between two set ones is off by more than this from what was followed.
    last : int
        The clip's last frame.
    target : (4,) array_like, optional
        Where it is known to be on the last of ``numbers``.
    back : Way, optional
        What following from there the other way gave. Each way counts the more, the nearer its own end is.

    Returns
    -------
    CarriedOn

    Examples
    --------
    >>> steps = [Followed((x, 0.0, x + 10.0, 10.0), 0.9, True) for x in (1.0, 2.0, 3.0)]
    >>> found = carried_on([0, 0, 10, 10], [5, 6, 7, 8], Way(steps), (100, 100), 0.9, 20)
    >>> found.frames.tolist(), found.spans, found.ended
    ([5, 8], [(5, 8)], 'there')
    """
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
        boxes, sure, seen, ended = _joined(box, target, numbers, replace(way, steps=steps), back)
    frames, asked_at = list(numbers[: len(boxes) + 1]), numbers[0]
    corners = (
        np.vstack([np.asarray(box, dtype=np.float64), *boxes])
        if boxes
        else np.asarray(box, dtype=np.float64)[None]
    )
    seen, sure = [True, *seen], [1.0, *sure]
    order = np.argsort(frames)
    # In the order in which it was followed, as a slip comes after what is unsure.
    leaps = _leaps(corners)[order]
    at = np.array(frames)[order]
    corners, flags, certain = corners[order], np.array(seen)[order], np.array(sure)[order]
    visible = np.flatnonzero(flags)
    grown = _grown(np.asarray(box), boxes, *size)
    # Of what leaves the picture less and less is seen: that explains itself.
    edge = {0, len(at) - 1} - {int(np.flatnonzero(at == asked_at)[0])} if ended == "left" else set()
    onward = 1 if frames[-1] >= frames[0] else -1
    doubts = {int(at[place]) for place in _worst(certain, flags, edge, leaps, onward)}
    if grown is not None and not pinned:
        doubts.add(frames[grown + 1])
    places = visible[few_boxes(at[visible], corners[visible], least_iou)]
    return CarriedOn(
        ended=ended if ended != "there" or not frames or frames[-1] not in (0, last) else "clip",
        frames=at[places],
        boxes=np.round(corners[places], 2),
        spans=[(int(at[first]), int(at[after])) for first, after in _stretches(flags)],
        unsure=sorted(doubts),
        sureness=float(np.round(certain[visible].min(), 3)),
        followed=len(at) - 1,
    )


def _joined(
    box: ArrayLike, target: ArrayLike | None, numbers: Sequence[int], way: Way, back: Way
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
                np.asarray(kept.box) if kept is not None else boxes[-1] if boxes else np.asarray(box)
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
    boxes.append(np.asarray(target, dtype=np.float64))
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


def _leaps(corners: Array) -> Array:
    """How far each box lies from where its last steps led, in parts of its diagonal; boxes in the order of following."""
    middles = (corners[:, :2] + corners[:, 2:]) / 2
    steps = np.diff(middles, axis=0)
    leaps = np.zeros(len(corners))
    for place in range(2, len(corners)):
        usual = np.median(steps[max(0, place - 1 - LATELY) : place - 1], axis=0)
        leaps[place] = np.hypot(*(steps[place - 1] - usual)) / np.hypot(
            *(corners[place, 2:] - corners[place, :2])
        )
    return leaps


def _worst(
    sure: NDArray[np.float64], seen: NDArray[np.bool_], edge: set[int], leaps: Array, onward: int
) -> list[int]:
    """Of each stretch that a person should look at, the place where it is worst; none of one that reaches an edge.

    Where it slips on to something else it is least sure just before: then the slip itself is the place, ``onward`` by one
    or two. A leap is one also where it was sure enough before.
    """
    found = []
    for first, last in _stretches(seen & (sure < UNSURE)):
        if first in edge or last in edge:
            continue
        worst = first + int(sure[first : last + 1].argmin())
        after = [
            each for each in (worst + onward, worst + 2 * onward) if 0 <= each < len(sure) and seen[each]
        ]
        slip = max(after, key=lambda each: leaps[each], default=worst)
        found.append(slip if leaps[slip] > max(SLIPPED, leaps[worst]) else worst)
    for place in np.flatnonzero(seen & (leaps > LEAPT) & (sure < HALF_SURE)).tolist():
        if place not in edge and not any(abs(place - each) <= LATELY for each in found):
            found.append(place)
    return found
