"""Counting objects that go over a line or are inside of a region."""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, to_centre_size
from avocet.core.regions import inside
from avocet.core.tracks.linking import Track

CLEAR = 0.05
"""How far an object's middle must be beyond a line to be over it, in parts of its box's diagonal: a box that
trembles on the line crosses it once."""


@dataclass(frozen=True)
class Crossing:
    """An object that went over a line.

    Attributes
    ----------
    track : int
        Its place among the tracks.
    frame : int
        Place of the first frame on which it was over the line.
    forward : bool
        It came from the left of the line, looking from the first end to the second, with y down.
    """

    track: int
    frame: int
    forward: bool


def crossings(tracks: Sequence[Track], line: ArrayLike) -> list[Crossing]:
    """Every time an object's middle goes over a line.

    An object counts once it is clearly on the other side, and only where its way from the one side to the
    other, straight between the frames on which it was seen, meets the line between its ends. Where it is first and last
    seen, as where the clip begins and ends, the side of its middle is enough, unless it is clear of the line nowhere.

    Parameters
    ----------
    tracks : sequence of Track
    line : (2, 2) array_like
        x and y of both ends, in the pixels of the boxes.

    Returns
    -------
    list of Crossing
        By frame, then by track.

    Raises
    ------
    ValueError
        If the line has no length.

    Examples
    --------
    A roll that moves down over a line drawn from left to right comes from its left side, which is above it:

    >>> frames = np.arange(5)
    >>> boxes = np.array([[10, 10 * n, 20, 10 * n + 10] for n in range(5)], dtype=float)
    >>> roll = Track(0, frames, boxes, np.ones(5), np.zeros(5, int))
    >>> crossings([roll], [[0, 27], [40, 27]])
    [Crossing(track=0, frame=3, forward=True)]
    """
    first, second = np.asarray(line, dtype=np.float64).reshape(2, 2)
    along = second - first
    length = float(np.hypot(*along))
    if length == 0:
        raise ValueError("the line has no length")
    found = []
    for number, track in enumerate(tracks):
        middles = to_centre_size(track.boxes)[:, :2]
        # Positive to the right, looking along the line with y down.
        beyond = ((middles - first) @ np.array([-along[1], along[0]])) / length
        margin = CLEAR * np.hypot(*(track.boxes[:, 2:] - track.boxes[:, :2]).T)
        side = np.where(beyond > margin, 1, np.where(beyond < -margin, -1, 0))
        if side.any():
            for end in (0, -1):
                side[end] = side[end] or np.sign(beyond[end])
        clear = np.flatnonzero(side)
        for before, after in itertools.pairwise(clear):
            if side[before] != side[after] and _meets(
                middles[before : after + 1], beyond[before : after + 1], first, along
            ):
                found.append(Crossing(number, int(track.frames[after]), bool(side[after] > 0)))
    return sorted(found, key=lambda each: (each.frame, each.track))


def _meets(way: Array, beyond: Array, first: Array, along: Array) -> bool:
    """Whether a way that ends on the other side goes over the line between its ends and not past them."""
    # Of a way that trembles the last time it changes sides counts.
    changes = np.flatnonzero(np.sign(beyond[:-1]) != np.sign(beyond[1:]))
    place = int(changes[-1])
    share = beyond[place] / (beyond[place] - beyond[place + 1])
    met = way[place] + share * (way[place + 1] - way[place])
    along_it = float((met - first) @ along / (along @ along))
    return 0 <= along_it <= 1


@dataclass(frozen=True)
class Stay:
    """An object's time inside of a region.

    Attributes
    ----------
    track : int
    first, last : int
        Places of the first and the last frame on which it was seen inside.
    """

    track: int
    first: int
    last: int


def stays(tracks: Sequence[Track], region: ArrayLike) -> list[Stay]:
    """When each object's middle is inside of a region.

    Parameters
    ----------
    tracks : sequence of Track
    region : (V, 2) array_like
        Corners of a polygon in the pixels of the boxes.

    Returns
    -------
    list of Stay
        By first frame, then by track. One seen outside in between stays twice.

    Examples
    --------
    >>> boxes = np.array([[10 * n, 0, 10 * n + 10, 10] for n in range(6)], dtype=float)
    >>> ring = Track(1, np.arange(6), boxes, np.ones(6), np.zeros(6, int))
    >>> stays([ring], [[12, 0], [38, 0], [38, 20], [12, 20]])
    [Stay(track=0, first=1, last=3)]
    """
    found = []
    for number, track in enumerate(tracks):
        within = inside(to_centre_size(track.boxes)[:, :2], region)
        edges = np.flatnonzero(np.diff(np.concatenate([[False], within, [False]]).astype(int)))
        for begun, ended in edges.reshape(-1, 2):
            found.append(Stay(number, int(track.frames[begun]), int(track.frames[ended - 1])))
    return sorted(found, key=lambda each: (each.first, each.track))


def inside_by_frame(stays_found: Sequence[Stay], frames: int) -> NDArray[np.int64]:
    """How many objects are inside on each frame, counting those that are only unseen for a while.

    Parameters
    ----------
    stays_found : sequence of Stay
    frames : int
        How many frames the clip has.

    Returns
    -------
    (frames,) ndarray of int64

    Examples
    --------
    >>> inside_by_frame([Stay(0, 1, 3), Stay(1, 3, 3)], 5)
    array([0, 1, 1, 2, 0])
    """
    change = np.zeros(frames + 1, dtype=np.int64)
    for each in stays_found:
        change[each.first] += 1
        change[each.last + 1] -= 1
    return np.cumsum(change)[:-1]
