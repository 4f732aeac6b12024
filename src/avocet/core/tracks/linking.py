"""Linking over frames: boxes of a clip joined into tracks, so that every object is one."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, area, intersection, iou
from avocet.core.detections import PictureDetections

STEADY = 0.6
"""Share of what was just seen in a track's velocity; the rest is what it was."""

LEAST_IOU = 0.1
"""Overlap of the predicted and the found box from which they can be the same object."""

NEAR = 0.5
"""Or so close: distance of the middles, in parts of the found box's diagonal."""

OTHER_CLASS = 0.4
"""What it costs to link a box of another class than the track's."""

PATIENCE = 60
"""Frames that a track goes on unseen before it ends."""

CUT = 0.8
"""Of a box that is less wide or high than this share of what it was, a part is hidden."""

RESIZED = 0.03
"""A change of width or height by more than this share is one edge moving without the other."""

KEPT_SIZE = 0.995
"""What is left, frame by frame, of a size that is not seen again: things do get smaller with distance."""

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
    """A track that may still go on.

    Something that goes behind something else, or out of the picture, is cut: one edge of its box stays where
    the other thing begins, and only the other edge moves on with it. That edge tells how fast it is and, with the size
    that it had, where all of it lies.
    """

    box: Array
    last: int
    velocity: Array = field(default_factory=lambda: np.zeros(2))
    votes: dict[int, float] = field(default_factory=dict)
    seen: list[tuple[int, int]] = field(default_factory=list)
    boxes: list[Array] = field(default_factory=list)
    scores: list[float] = field(default_factory=list)
    number: int = 0
    times_seen: int = 0
    size: Array = field(default_factory=lambda: np.zeros(2))
    by_far_edge: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(2, bool))
    shift: Array = field(default_factory=lambda: np.zeros(2))

    @property
    def kind(self) -> int:
        return max(self.votes, key=lambda each: (self.votes[each], -each))

    @property
    def is_cut(self) -> bool:
        """Whether much less of it is seen than there was."""
        return bool(((self.box[2:] - self.box[:2]) < CUT * self.size).any())

    def whole(self) -> Array:
        """Where all of it was when it was last seen."""
        low, high = self.box[:2], self.box[2:]
        cut = high - low < CUT * self.size
        begin = np.where(cut & self.by_far_edge, high - self.size, low)
        return np.concatenate([begin, np.where(cut, begin + self.size, high)])

    def predicted(self, frame: int) -> Array:
        """Where the box will be if it goes on as it did; all of it, where it was not seen lately."""
        if frame - self.last > 1:
            return _moved(self.whole(), self.shift + self.velocity)
        return _moved(self.box, self.velocity * (frame - self.last))

    def wait(self, common: Array | None) -> None:
        """It is not seen on a frame: it moves on as it did, or as all others do now."""
        self.shift = self.shift + (self.velocity if common is None else common)

    def see(self, frame: int, place: int, found: PictureDetections) -> None:
        box, kind = found.boxes[place], int(found.classes[place])
        size = box[2:] - box[:2]
        if self.times_seen:
            away = frame - self.last
            near, far = (box[:2] - self.box[:2]) / away, (box[2:] - self.box[2:]) / away
            moved = (near + far) / 2
            if away == 1:
                changed = np.abs(size - (self.box[2:] - self.box[:2])) > RESIZED * self.size
                far_edge = np.abs(far) > np.abs(near)
                self.by_far_edge = np.where(changed, far_edge, self.by_far_edge)
                moved = np.where(changed, np.where(far_edge, far, near), moved)
            else:
                # What is seen of it may be another part than before.
                moved = self.velocity
            share = STEADY if self.times_seen > 1 else 1.0
            self.velocity = share * moved + (1 - share) * self.velocity
        self.size = np.maximum(size, KEPT_SIZE * self.size)
        self.box, self.last, self.shift = box, frame, np.zeros(2)
        self.votes[kind] = self.votes.get(kind, 0.0) + float(found.scores[place])
        self.seen.append((frame, place))
        self.boxes.append(box)
        self.scores.append(float(found.scores[place]))
        self.times_seen += 1

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
        number, limits = self._frame, self._limits
        going_on = []
        for each in self._open:
            if number - each.last <= self._patience:
                going_on.append(each)
            elif each.number and not self._endless:
                self._ended.append(each)
        is_sure = found.scores >= (limits[found.classes] if limits.ndim else limits)
        left, unpaired = going_on, np.flatnonzero(is_sure)
        predicted = np.array([each.predicted(number) for each in left]).reshape(-1, 4)
        whose: dict[int, _Open] = {}
        for chosen in (unpaired, np.flatnonzero(~is_sure)):
            pairs = _paired(predicted, left, found, chosen, number)
            for track, place in pairs:
                left[track].see(number, place, found)
                whose[place] = left[track]
            gone = {track for track, _ in pairs}
            predicted = np.delete(predicted, list(gone), axis=0)
            left = [each for place, each in enumerate(left) if place not in gone]
        unpaired = np.array([each for each in unpaired if each not in whose], dtype=np.int64)
        common = self._common_motion(going_on, number)
        for each in left:
            each.wait(common)
        for place in unpaired.tolist():
            of = self._hidden_part(going_on, found, place)
            if of is not None:
                whose[place] = of
                continue
            begun = _Open(found.boxes[place], number)
            begun.see(number, place, found)
            whose[place] = begun
            going_on.append(begun)
        self._open = going_on
        ripe = [each for each in whose.values() if not each.number and each.times_seen >= self._least_seen]
        for each in sorted(ripe, key=lambda each: (each.seen[0][0], float(each.boxes[0][0]))):
            self._numbered += 1
            each.number = self._numbered
        if self._endless:
            for each in going_on:
                each.forget()
        return np.array(
            [whose[place].number if place in whose else 0 for place in range(len(found.boxes))],
            dtype=np.int64,
        )

    @staticmethod
    def _common_motion(tracks: Sequence[_Open], frame: int) -> Array | None:
        """How everything moved to this frame: the median of what was seen before and now."""
        moved = [each.velocity for each in tracks if each.last == frame and each.times_seen > 2]
        return np.median(moved, axis=0) if len(moved) >= COMMON else None

    @staticmethod
    def _hidden_part(tracks: Sequence[_Open], found: PictureDetections, place: int) -> _Open | None:
        """Of which track, if any, a box is the part that comes out on the other side."""
        for each in tracks:
            if each.number and each.is_cut and each.kind == int(found.classes[place]):
                where = _moved(each.whole(), each.shift)
                if _share_within(found.boxes[place][None], where[None])[0, 0] >= WITHIN:
                    return each
        return None

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
    tracks: list[_Open],
    found: PictureDetections,
    chosen: NDArray[np.int64],
    frame: int | None = None,
) -> list[tuple[int, int]]:
    """Pairs of a track's place and a detection's, of the least cost in all."""
    if not tracks or not len(chosen):
        return []
    boxes = found.boxes[chosen]
    overlap = iou(foreseen, boxes)
    gap = np.linalg.norm(_middle(foreseen)[:, None] - _middle(boxes)[None], axis=2)
    apart = gap / np.maximum(np.linalg.norm(boxes[:, 2:] - boxes[:, :2], axis=1), 1e-9)
    kinds = np.array([each.kind for each in tracks])
    other = kinds[:, None] != found.classes[chosen][None]
    cost = 1 - overlap + apart + OTHER_CLASS * other
    possible = (overlap >= LEAST_IOU) | (apart <= NEAR)
    if frame is not None:
        # Of what was hidden a part may be seen again: it lies within where all of it should be.
        hidden = np.array([frame - each.last > 1 and each.times_seen > 2 for each in tracks])
        inside = _share_within(boxes, foreseen).T
        part = hidden[:, None] & (inside >= WITHIN) & ~other
        cost = np.where(part, np.minimum(cost, 2 - inside), cost)
        possible |= part
    # What is impossible costs more than all that is possible together.
    rows, columns = scipy.optimize.linear_sum_assignment(np.where(possible, cost, 1e6))
    return [
        (int(row), int(chosen[column]))
        for row, column in zip(rows, columns, strict=True)
        if possible[row, column]
    ]


def _share_within(boxes: Array, others: Array) -> Array:
    """Which share of each box lies within each other one, (N, M)."""
    return intersection(boxes, others) / np.maximum(area(boxes), 1e-9)[:, None]


def _moved(box: Array, by: Array) -> Array:
    """A box moved by (x, y)."""
    return (box.reshape(2, 2) + by).ravel()


def _middle(boxes: Array) -> Array:
    return (boxes[..., :2] + boxes[..., 2:]) / 2


def _as_track(track: _Open) -> Track:
    seen = np.array(track.seen, dtype=np.int64)
    return Track(track.kind, seen[:, 0], np.stack(track.boxes), np.array(track.scores), seen[:, 1])
