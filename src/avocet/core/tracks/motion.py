"""How followed objects move: box, velocity and size of each as columns, foreseen from frame to frame."""

from dataclasses import dataclass, field, fields

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array

STEADY = 0.6
"""Share of what was just seen in an object's velocity; the rest is what it was."""

CUT = 0.8
"""Of a box that is less wide or high than this share of what it was, a part is hidden."""

RESIZED = 0.03
"""A change of width or height by more than this share is one edge moving without the other."""

KEPT_SIZE = 0.995
"""What is left, frame by frame, of a size that is not seen again: things do get smaller with distance."""


@dataclass
class Motion:
    """Objects that may be seen again, a row each.

    Something that goes behind something else, or out of the picture, is cut: one edge of its box stays where
    the other thing begins, and only the other edge moves on with it. That edge tells how fast it is and, with the size
    that it had, where all of it lies.

    Attributes
    ----------
    box : (T, 4) ndarray of float64
        As it was last seen.
    last : (T,) ndarray of int64
        The frame on which that was.
    times_seen : (T,) ndarray of int64
    velocity : (T, 2) ndarray of float64
        Pixels a frame.
    size : (T, 2) ndarray of float64
        Width and height of all of it.
    by_far_edge : (T, 2) ndarray of bool
        Whether the right or lower edge is the one that moves with it.
    shift : (T, 2) ndarray of float64
        How far it has gone unseen.

    Examples
    --------
    >>> motion = Motion()
    >>> motion.begin(np.array([[0.0, 0, 10, 10]]), 0)
    >>> motion.see(np.array([0]), 1, np.array([[3.0, 0, 13, 10]]))
    >>> motion.foreseen(2)
    array([[ 6.,  0., 16., 10.]])
    """

    box: Array = field(default_factory=lambda: np.zeros((0, 4)))
    last: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    times_seen: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    velocity: Array = field(default_factory=lambda: np.zeros((0, 2)))
    size: Array = field(default_factory=lambda: np.zeros((0, 2)))
    by_far_edge: NDArray[np.bool_] = field(default_factory=lambda: np.zeros((0, 2), bool))
    shift: Array = field(default_factory=lambda: np.zeros((0, 2)))

    def keep(self, rows: NDArray[np.bool_]) -> None:
        """Forget all other objects."""
        for each in fields(self):
            setattr(self, each.name, getattr(self, each.name)[rows])

    def begin(self, boxes: Array, frame: int) -> None:
        """Objects that are seen for the first time come behind the others."""
        count = len(boxes)
        begun = Motion(
            boxes,
            np.full(count, frame),
            np.ones(count, np.int64),
            np.zeros((count, 2)),
            boxes[:, 2:] - boxes[:, :2],
            np.zeros((count, 2), bool),
            np.zeros((count, 2)),
        )
        for each in fields(self):
            setattr(self, each.name, np.concatenate([getattr(self, each.name), getattr(begun, each.name)]))

    def see(self, rows: NDArray[np.int64], frame: int, boxes: Array) -> None:
        """Some objects, each at most once, are seen on a frame."""
        before, away = self.box[rows], (frame - self.last[rows])[:, None]
        size = boxes[:, 2:] - boxes[:, :2]
        near, far = (boxes[:, :2] - before[:, :2]) / away, (boxes[:, 2:] - before[:, 2:]) / away
        changed = np.abs(size - (before[:, 2:] - before[:, :2])) > RESIZED * self.size[rows]
        far_edge = np.abs(far) > np.abs(near)
        moved = np.where(changed, np.where(far_edge, far, near), (near + far) / 2)
        # What is seen again after a while may be another part than before: that tells nothing of its motion.
        running, velocity = away == 1, self.velocity[rows]
        moved = np.where(running, moved, velocity)
        share = np.where(self.times_seen[rows] > 1, STEADY, 1.0)[:, None]
        self.velocity[rows] = share * moved + (1 - share) * velocity
        self.by_far_edge[rows] = np.where(running & changed, far_edge, self.by_far_edge[rows])
        self.size[rows] = np.maximum(size, KEPT_SIZE * self.size[rows])
        self.box[rows], self.last[rows], self.shift[rows] = boxes, frame, 0
        self.times_seen[rows] += 1

    def wait(self, rows: NDArray[np.int64], common: Array | None) -> None:
        """Some are not seen on a frame: they move on as they did, or as all others do now."""
        self.shift[rows] += self.velocity[rows] if common is None else common

    def cut(self) -> NDArray[np.bool_]:
        """(T, 2) whether much less of the width, and of the height, is seen than there was."""
        return np.asarray(self.box[:, 2:] - self.box[:, :2] < CUT * self.size)

    def whole(self) -> Array:
        """(T, 4) where all of each was when it was last seen."""
        low, high, cut = self.box[:, :2], self.box[:, 2:], self.cut()
        begin = np.where(cut & self.by_far_edge, high - self.size, low)
        return np.concatenate([begin, np.where(cut, begin + self.size, high)], axis=1)

    def foreseen(self, frame: int) -> Array:
        """(T, 4) where each will be if it goes on as it did; all of it, where it was not seen lately."""
        unseen = (frame - self.last > 1)[:, None]
        by = np.where(unseen, self.shift + self.velocity, self.velocity)
        return np.asarray(np.where(unseen, self.whole(), self.box) + np.tile(by, 2))

    def hidden(self) -> Array:
        """(T, 4) where all of each is by now, though it is not seen."""
        return self.whole() + np.tile(self.shift, 2)
