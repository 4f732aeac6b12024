"""Linking over frames: boxes of a clip joined into tracks, so that every object is one."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, area, intersection, iou
from avocet.core.detections import PictureDetections
from avocet.core.tracks.motion import Motion

LEAST_IOU = 0.1
"""Overlap of the predicted and the found box from which they can be the same object."""

NEAR = 0.5
"""Or so close: distance of the middles, in parts of the found box's diagonal."""

OTHER_CLASS = 0.4
"""What it costs to link a box of another class than the track's."""

PATIENCE = 60
"""Frames that a track goes on unseen before it ends."""

WITHIN = 0.6
"""Share of a box that lies within where all of a hidden thing should be, from which it can be a part of it."""

COMMON = 3
"""So many tracks that were seen on two frames running tell how everything moves."""

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
    """What was seen of an object that may be seen again; how it moves is a row of `Motion`."""

    kind: int = 0
    votes: dict[int, float] = field(default_factory=dict)
    seen: list[tuple[int, int]] = field(default_factory=list)
    boxes: list[Array] = field(default_factory=list)
    scores: list[float] = field(default_factory=list)
    number: int = 0

    def see(self, frame: int, place: int, found: PictureDetections) -> None:
        kind, score = int(found.classes[place]), float(found.scores[place])
        self.votes[kind] = self.votes.get(kind, 0.0) + score
        self.kind = max(self.votes, key=lambda each: (self.votes[each], -each))
        self.seen.append((frame, place))
        self.boxes.append(found.boxes[place])
        self.scores.append(score)

    def forget(self) -> None:
        """Keep the last sight only."""
        del self.seen[:-1], self.boxes[:-1], self.scores[:-1]


class Linker:
    """Joins the detections of successive frames into tracks, frame by frame.

    Every open track is foreseen at constant velocity. Boxes and tracks are then paired so that the
    sum of 1 − IoU and of the distance in parts of the box is least (optimal assignment; Kuhn, 1955), in
    two rounds (Zhang et al., 2022): first the boxes that are sure of themselves, then the weak ones with
    what is left of the tracks, so that a weak box can carry a track on but not begin one.

    What is not seen for a while moves on with all others, as on a belt or before a camera that moves. A box
    that lies where the hidden part of something should be is that part, and begins no track.

    Parameters
    ----------
    sure : float or (C,) array_like
        Score from which a box can begin a track, for all classes or of each.
    patience : int
        Frames that a track goes on unseen.
    least_seen : int
        What is seen on fewer frames is no object.
    endless : bool
        Of a picture without end: tracks that have ended are forgotten, and of the others all but the last sight.

    Examples
    --------
    >>> linker = Linker(sure=0.5, least_seen=2)
    >>> [linker.step(PictureDetections([[n, 0, n + 10, 10]], [0.9], [0])).tolist() for n in range(3)]
    [[0], [1], [1]]
    """

    def __init__(
        self, sure: ArrayLike, patience: int = PATIENCE, least_seen: int = LEAST_SEEN, endless: bool = False
    ) -> None:
        self._limits = np.asarray(sure, dtype=np.float64)
        self._patience, self._least_seen, self._endless = patience, least_seen, endless
        self._frame, self._numbered = -1, 0
        self._open: list[_Open] = []
        self._ended: list[_Open] = []
        self._motion = Motion()

    def step(self, found: PictureDetections) -> NDArray[np.int64]:
        """Take the next frame.

        Parameters
        ----------
        found : PictureDetections
            What is below every minimum score is left out already.

        Returns
        -------
        (D,) ndarray of int64
            The number of each box's object, from 1; 0 for what was not yet seen often enough.
        """
        self._frame += 1
        number, limits, motion = self._frame, self._limits, self._motion
        self._end_unseen()
        is_sure = found.scores >= (limits[found.classes] if limits.ndim else limits)
        foreseen, kinds = motion.foreseen(number), np.array([each.kind for each in self._open], np.int64)
        may_show_part = (number - motion.last > 1) & (motion.times_seen > 2)
        left, pairs = np.arange(len(self._open)), np.zeros((0, 2), np.int64)
        for chosen in (np.flatnonzero(is_sure), np.flatnonzero(~is_sure)):
            made = _paired(foreseen[left], kinds[left], found, chosen, may_show_part[left])
            pairs = np.concatenate([pairs, np.stack([left[made[:, 0]], made[:, 1]], axis=1)])
            left = np.delete(left, made[:, 0])
        motion.see(pairs[:, 0], number, found.boxes[pairs[:, 1]])
        whose: dict[int, _Open] = {}
        for track, place in pairs.tolist():
            whose[place] = self._open[track]
            whose[place].see(number, place, found)
        motion.wait(left, self._common_motion())
        begun = []
        for place in np.setdiff1d(np.flatnonzero(is_sure), pairs[:, 1]).tolist():
            part_of = self._hidden_part(found, place)
            whose[place] = part_of or _Open()
            if part_of is None:
                whose[place].see(number, place, found)
                begun.append(place)
        self._open += [whose[place] for place in begun]
        motion.begin(found.boxes[begun], number)
        self._number_ripe()
        if self._endless:
            for each in self._open:
                each.forget()
        return np.array(
            [whose[place].number if place in whose else 0 for place in range(len(found.boxes))],
            dtype=np.int64,
        )

    def _end_unseen(self) -> None:
        """Let go of what was not seen for too long."""
        stays = self._frame - self._motion.last <= self._patience
        if not stays.all():
            gone = [self._open[row] for row in np.flatnonzero(~stays)]
            self._ended += [each for each in gone if each.number and not self._endless]
            self._open = [self._open[row] for row in np.flatnonzero(stays)]
            self._motion.keep(stays)

    def _number_ripe(self) -> None:
        """What was now seen often enough is an object: it gets the next number."""
        motion = self._motion
        ripe = np.flatnonzero((motion.last == self._frame) & (motion.times_seen >= self._least_seen))
        unnumbered = [self._open[row] for row in ripe if not self._open[row].number]
        for each in sorted(unnumbered, key=lambda each: (each.seen[0][0], float(each.boxes[0][0]))):
            self._numbered += 1
            each.number = self._numbered

    def _common_motion(self) -> Array | None:
        """How everything moved to this frame: the median of what was seen before and now."""
        seen = (self._motion.last == self._frame) & (self._motion.times_seen > 2)
        return np.median(self._motion.velocity[seen], axis=0) if seen.sum() >= COMMON else None

    def _hidden_part(self, found: PictureDetections, place: int) -> _Open | None:
        """Of which track, if any, a box is the part that comes out on the other side."""
        kind = int(found.classes[place])
        of = [row for row, each in enumerate(self._open) if each.number and each.kind == kind]
        within = _share_within(found.boxes[place][None], self._motion.hidden()[of])[0]
        possible = self._motion.cut()[of].any(axis=1) & (within >= WITHIN)
        return self._open[of[int(possible.argmax())]] if possible.any() else None

    def tracks(self) -> list[Track]:
        """What was seen often enough so far, by number: as it came to be seen so often, then from left to right."""
        every = [each for each in self._ended + self._open if each.number]
        return [_as_track(each) for each in sorted(every, key=lambda each: each.number)]


def link(
    frames: Sequence[PictureDetections],
    sure: ArrayLike,
    patience: int = PATIENCE,
    least_seen: int = LEAST_SEEN,
) -> list[Track]:
    """Join the detections of successive frames into tracks, as `Linker` does.

    Parameters
    ----------
    frames : sequence of PictureDetections
        In order; what is below every minimum score is left out already.
    sure : float or (C,) array_like
    patience, least_seen : int

    Returns
    -------
    list of Track

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
    linker = Linker(sure, patience, least_seen)
    for found in frames:
        linker.step(found)
    return linker.tracks()


def _paired(
    foreseen: Array,
    kinds: NDArray[np.int64],
    found: PictureDetections,
    chosen: NDArray[np.int64],
    may_show_part: NDArray[np.bool_] | None = None,
) -> NDArray[np.int64]:
    """Pairs of a track's place and a detection's, (K, 2), of the least cost in all."""
    if not len(kinds) or not len(chosen):
        return np.zeros((0, 2), np.int64)
    boxes = found.boxes[chosen]
    overlap = iou(foreseen, boxes)
    gap = np.linalg.norm(_middle(foreseen)[:, None] - _middle(boxes)[None], axis=2)
    apart = gap / np.maximum(np.linalg.norm(boxes[:, 2:] - boxes[:, :2], axis=1), 1e-9)
    other = kinds[:, None] != found.classes[chosen][None]
    cost = 1 - overlap + apart + OTHER_CLASS * other
    possible = (overlap >= LEAST_IOU) | (apart <= NEAR)
    if may_show_part is not None:
        # Of what was hidden a part may be seen again: it lies within where all of it should be.
        inside = _share_within(boxes, foreseen).T
        part = may_show_part[:, None] & (inside >= WITHIN) & ~other
        cost = np.where(part, np.minimum(cost, 2 - inside), cost)
        possible |= part
    # What is impossible costs more than all that is possible together.
    rows, columns = scipy.optimize.linear_sum_assignment(np.where(possible, cost, 1e6))
    real = possible[rows, columns]
    return np.stack([rows[real], chosen[columns[real]]], axis=1)


def _share_within(boxes: Array, others: Array) -> Array:
    """Which share of each box lies within each other one, (N, M)."""
    return intersection(boxes, others) / np.maximum(area(boxes), 1e-9)[:, None]


def _middle(boxes: Array) -> Array:
    return (boxes[..., :2] + boxes[..., 2:]) / 2


def _as_track(track: _Open) -> Track:
    seen = np.array(track.seen, dtype=np.int64)
    return Track(track.kind, seen[:, 0], np.stack(track.boxes), np.array(track.scores), seen[:, 1])
