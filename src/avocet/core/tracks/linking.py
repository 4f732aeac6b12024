"""Linking over frames: boxes of a clip joined into tracks, so that every object is one."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.optimize import linear_sum_assignment

from avocet.core.boxes import Array, iou
from avocet.core.detections import PictureDetections

STEADY = 0.6
"""Share of what was just seen in a track's velocity; the rest is what it was."""

LEAST_IOU = 0.1
"""Overlap of the predicted and the found box from which they can be the same object."""

NEAR = 0.5
"""Or so close: distance of the middles, in parts of the found box's diagonal."""

OTHER_CLASS = 0.4
"""What it costs to link a box of another class than the track's."""

PATIENCE = 15
"""Frames that a track goes on unseen before it ends."""

LEAST_SEEN = 3
"""A track seen on fewer frames is no object but a flicker."""


@dataclass(frozen=True)
class Track:
    """One object through the frames.

    Attributes
    ----------
    kind : int
        The class of most of its score.
    frames : (N,) ndarray of int64
        Places of the frames on which it was seen, rising.
    boxes : (N, 4) ndarray of float64
    scores : (N,) ndarray of float64
    places : (N,) ndarray of int64
        Which detection of its frame each was.
    """

    kind: int
    frames: NDArray[np.int64]
    boxes: Array
    scores: Array
    places: NDArray[np.int64]


@dataclass
class _Open:
    """A track that may still go on."""

    box: Array
    last: int
    velocity: Array = field(default_factory=lambda: np.zeros(2))
    votes: dict[int, float] = field(default_factory=dict)
    seen: list[tuple[int, int]] = field(default_factory=list)

    @property
    def kind(self) -> int:
        return max(self.votes, key=lambda each: (self.votes[each], -each))

    def predicted(self, frame: int) -> Array:
        """Where the box will be if it goes on as it did."""
        return self.box + np.tile(self.velocity * (frame - self.last), 2)

    def see(self, frame: int, place: int, found: PictureDetections) -> None:
        box, kind = found.boxes[place], int(found.classes[place])
        if self.seen:
            moved = (_middle(box) - _middle(self.box)) / (frame - self.last)
            share = STEADY if len(self.seen) > 1 else 1.0
            self.velocity = share * moved + (1 - share) * self.velocity
        self.box, self.last = box, frame
        self.votes[kind] = self.votes.get(kind, 0.0) + float(found.scores[place])
        self.seen.append((frame, place))


def link(
    frames: Sequence[PictureDetections],
    sure: ArrayLike,
    patience: int = PATIENCE,
    least_seen: int = LEAST_SEEN,
) -> list[Track]:
    """Join the detections of successive frames into tracks.

    Every open track is foreseen at constant velocity. Boxes and tracks are then paired so that the
    sum of 1 − IoU and of the distance in parts of the box is least (optimal assignment; Kuhn, 1955), in
    two rounds (Zhang et al., 2022): first the boxes that are sure of themselves, then the weak ones with
    what is left of the tracks, so that a weak box can carry a track on but not begin one.

    Parameters
    ----------
    frames : sequence of PictureDetections
        In order; what is below every minimum score is left out already.
    sure : float or (C,) array_like
        Score from which a box can begin a track, for all classes or of each.
    patience : int
        Frames that a track goes on unseen.
    least_seen : int
        Tracks seen on fewer frames are left out.

    Returns
    -------
    list of Track
        By first frame, then from left to right.

    Examples
    --------
    Two boxes that move to the right, one of them not found on the second frame:

    >>> frames = [
    ...     PictureDetections([[4 * n, 0, 4 * n + 10, 10], [4 * n, 50, 4 * n + 10, 60]], [0.9, 0.8], [0, 1])
    ...     for n in range(4)]
    >>> frames[1] = PictureDetections([[4, 0, 14, 10]], [0.9], [0])
    >>> [(each.kind, each.frames.tolist()) for each in link(frames, sure=0.5)]
    [(0, [0, 1, 2, 3]), (1, [0, 2, 3])]
    """
    limits = np.asarray(sure, dtype=np.float64)
    open_tracks: list[_Open] = []
    ended: list[_Open] = []
    for number, found in enumerate(frames):
        going_on = [each for each in open_tracks if number - each.last <= patience]
        ended += [each for each in open_tracks if number - each.last > patience]
        is_sure = found.scores >= (limits[found.classes] if limits.ndim else limits)
        left, unpaired = going_on, np.flatnonzero(is_sure)
        for chosen in (unpaired, np.flatnonzero(~is_sure)):
            pairs = _paired([each.predicted(number) for each in left], left, found, chosen)
            for track, place in pairs:
                left[track].see(number, place, found)
            taken = {place for _, place in pairs}
            unpaired = np.array([each for each in unpaired if each not in taken], dtype=np.int64)
            gone = {track for track, _ in pairs}
            left = [each for place, each in enumerate(left) if place not in gone]
        fresh = []
        for place in unpaired.tolist():
            begun = _Open(found.boxes[place], number)
            begun.see(number, place, found)
            fresh.append(begun)
        open_tracks = going_on + fresh
    every = [each for each in ended + open_tracks if len(each.seen) >= least_seen]
    every.sort(key=lambda each: (each.seen[0][0], float(frames[each.seen[0][0]].boxes[each.seen[0][1], 0])))
    return [_as_track(each, frames) for each in every]


def _paired(
    predicted: list[Array], tracks: list[_Open], found: PictureDetections, chosen: NDArray[np.int64]
) -> list[tuple[int, int]]:
    """Pairs of a track's place and a detection's, of the least cost in all."""
    if not tracks or not len(chosen):
        return []
    boxes, foreseen = found.boxes[chosen], np.array(predicted)
    overlap = iou(foreseen, boxes)
    gap = np.linalg.norm(_middle(foreseen)[:, None] - _middle(boxes)[None], axis=2)
    apart = gap / np.maximum(np.linalg.norm(boxes[:, 2:] - boxes[:, :2], axis=1), 1e-9)
    kinds = np.array([each.kind for each in tracks])
    cost = 1 - overlap + apart + OTHER_CLASS * (kinds[:, None] != found.classes[chosen][None])
    possible = (overlap >= LEAST_IOU) | (apart <= NEAR)
    # What is impossible costs more than all that is possible together.
    rows, columns = linear_sum_assignment(np.where(possible, cost, 1e6))
    return [
        (int(row), int(chosen[column]))
        for row, column in zip(rows, columns, strict=True)
        if possible[row, column]
    ]


def _middle(boxes: Array) -> Array:
    return (boxes[..., :2] + boxes[..., 2:]) / 2


def _as_track(track: _Open, frames: Sequence[PictureDetections]) -> Track:
    seen = np.array(track.seen, dtype=np.int64)
    boxes = np.stack([frames[frame].boxes[place] for frame, place in track.seen])
    scores = np.array([frames[frame].scores[place] for frame, place in track.seen])
    return Track(track.kind, seen[:, 0], boxes, scores, seen[:, 1])
