"""Where an object is over a clip, from the few boxes that somebody set: between them, before and after them."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, as_boxes, iou_of_pairs


@dataclass(frozen=True)
class Trajectory:
    """One object's way through a clip.

    Attributes
    ----------
    frames : (K,) ndarray of int64
        Numbers of the frames on which a box was set, rising; at least one.
    boxes : (K, 4) ndarray of float64
        The boxes that were set, in pixels of the clip.
    held : (K,) ndarray of bool
        Whether a box stays as it is until the next one, rather than going over into it.
    spans : (S, 2) ndarray of int64
        First and last frame of each stretch in which the object is in sight, rising, none touching another.
    """

    frames: NDArray[np.int64]
    boxes: Array
    held: NDArray[np.bool_]
    spans: NDArray[np.int64]

    def boxes_at(self, frames: ArrayLike) -> Array:
        """The box on each frame, whether the object is in sight there or not.

        Between two set boxes each corner moves on evenly; before the first and after the last the box stays.

        Parameters
        ----------
        frames : (N,) array_like of int

        Returns
        -------
        (N, 4) ndarray of float64

        Examples
        --------
        >>> trajectory([[0, 20]], [[0, 0, 10, 10], [20, 0, 30, 10]], [0, 20]).boxes_at([5, 10, 99]).tolist()
        [[5.0, 0.0, 15.0, 10.0], [10.0, 0.0, 20.0, 10.0], [20.0, 0.0, 30.0, 10.0]]
        """
        asked = np.asarray(frames, dtype=np.int64)
        before = np.clip(np.searchsorted(self.frames, asked, side="right") - 1, 0, len(self.frames) - 1)
        after = np.minimum(before + 1, len(self.frames) - 1)
        gap = np.maximum(self.frames[after] - self.frames[before], 1)
        share = np.clip((asked - self.frames[before]) / gap, 0.0, 1.0)
        share = np.where(self.held[before] & (asked < self.frames[after]), 0.0, share)[:, None]
        return np.asarray(self.boxes[before] * (1 - share) + self.boxes[after] * share)

    def in_sight(self, frames: ArrayLike) -> NDArray[np.bool_]:
        """Whether the object is in sight on each frame.

        Parameters
        ----------
        frames : (N,) array_like of int

        Returns
        -------
        (N,) ndarray of bool
        """
        asked = np.asarray(frames, dtype=np.int64)
        place = np.searchsorted(self.spans[:, 0], asked, side="right") - 1
        return np.asarray((place >= 0) & (asked <= self.spans[np.maximum(place, 0), 1]))


def trajectory(
    spans: ArrayLike, boxes: ArrayLike, frames: ArrayLike | None = None, held: ArrayLike | None = None
) -> Trajectory:
    """A trajectory from plain numbers, checked.

    Parameters
    ----------
    spans : (S, 2) array_like of int
    boxes : (K, 4) array_like
    frames : (K,) array_like of int, optional
        By default the first frame of each span.
    held : (K,) array_like of bool, optional
        By default none.

    Returns
    -------
    Trajectory

    Raises
    ------
    ValueError
        If no box is set, or frames or spans do not rise.

    Examples
    --------
    >>> trajectory([[3, 2]], [[0, 0, 1, 1]])
    Traceback (most recent call last):
    ...
    ValueError: the spans in sight must rise and not touch: [[3, 2]]
    """
    stretches = np.asarray(spans, dtype=np.int64).reshape(-1, 2)
    corners = as_boxes(boxes)
    numbers = (
        stretches[: len(corners), 0] if frames is None else np.asarray(frames, dtype=np.int64).reshape(-1)
    )
    stays = np.zeros(len(corners), bool) if held is None else np.asarray(held, dtype=bool).reshape(-1)
    if not len(corners):
        raise ValueError("a track needs at least one box that was set")
    if len(numbers) != len(corners) or len(stays) != len(corners) or (np.diff(numbers) <= 0).any():
        raise ValueError(f"the frames of the boxes that were set must rise: {numbers.tolist()}")
    ends = stretches.reshape(-1)
    if (np.diff(ends)[::2] < 0).any() or (np.diff(ends)[1::2] <= 1).any():
        raise ValueError(f"the spans in sight must rise and not touch: {stretches.tolist()}")
    return Trajectory(numbers, corners, stays, stretches)


def steadied(frames: ArrayLike, boxes: ArrayLike, around: int = 4) -> Array:
    """Boxes of one object without the trembling of a model that looks at each frame by itself.

    Each corner becomes what a straight line through it and its neighbours in time says (Savitzky and Golay, 1964, for
    frames that need not follow one another), so that even motion stays as it is, also where the model missed frames. The
    first and the last boxes follow the line through those nearest.

    Parameters
    ----------
    frames : (N,) array_like of int
        On which each was found, rising.
    boxes : (N, 4) array_like
    around : int
        Frames to either side from which neighbours are taken.

    Returns
    -------
    (N, 4) ndarray of float64

    Examples
    --------
    >>> frames = [0, 1, 2, 12, 13, 14]
    >>> boxes = np.array([[10 * n, 0, 10 * n + 10, 10] for n in frames], dtype=float)
    >>> bool(np.allclose(steadied(frames, boxes), boxes))
    True
    """
    corners = as_boxes(boxes)
    times = np.asarray(frames, dtype=np.float64).reshape(-1)
    if len(corners) < 3:
        return corners
    middle = np.clip(times, times[0] + around, max(times[0] + around, times[-1] - around))
    first = np.searchsorted(times, middle - around, side="left")
    after = np.searchsorted(times, middle + around, side="right")
    # A box on the far side of what was missed is no neighbour, but it always counts itself.
    place = np.arange(len(times))
    first, after = np.minimum(first, place), np.maximum(after, place + 1)
    made = corners.copy()
    for one, (start, end) in enumerate(zip(first.tolist(), after.tolist(), strict=True)):
        since = times[start:end] - times[start:end].mean()
        spread = float(since @ since)
        if spread:
            seen = corners[start:end]
            slope = since @ (seen - seen.mean(axis=0)) / spread
            made[one] = seen.mean(axis=0) + slope * (times[one] - times[start:end].mean())
    return made


def few_boxes(frames: ArrayLike, boxes: ArrayLike, least_iou: float) -> NDArray[np.int64]:
    """Which boxes have to be set so that what lies between them is right by itself.

    The line is parted where it is worst, until it is good everywhere (Ramer, 1972; Douglas and Peucker, 1973),
    with 1 − IoU as the distance. A box that the others give as well is then left out again.

    Parameters
    ----------
    frames : (N,) array_like of int
        Rising.
    boxes : (N, 4) array_like
    least_iou : float
        No box between two set ones is off by more than this.

    Returns
    -------
    (K,) ndarray of int64
        Places in ``boxes``, rising; the first and the last are always among them.

    Examples
    --------
    Even motion needs its two ends, a turn one more:

    >>> few_boxes(range(5), [[x, 0, x + 10, 10] for x in (0, 4, 8, 4, 0)], 0.9).tolist()
    [0, 2, 4]
    """
    numbers, corners = np.asarray(frames, dtype=np.int64), as_boxes(boxes)
    if len(corners) < 3:
        return np.arange(len(corners), dtype=np.int64)

    def worst(first: int, last: int) -> tuple[float, int]:
        """The least IoU strictly between two set boxes, and where it is."""
        if last - first < 2:
            return 1.0, first
        share = ((numbers[first + 1 : last] - numbers[first]) / (numbers[last] - numbers[first]))[:, None]
        between = corners[first] * (1 - share) + corners[last] * share
        right = iou_of_pairs(between, corners[first + 1 : last])
        place = int(right.argmin())
        return float(right[place]), first + 1 + place

    kept, open_ends = {0, len(corners) - 1}, [(0, len(corners) - 1)]
    while open_ends:
        first, last = open_ends.pop()
        least, place = worst(first, last)
        if least < least_iou:
            kept.add(place)
            open_ends += [(first, place), (place, last)]
    chosen = sorted(kept)
    place = 1
    while place < len(chosen) - 1:
        if worst(chosen[place - 1], chosen[place + 1])[0] >= least_iou:
            del chosen[place]
        else:
            place += 1
    return np.array(chosen, dtype=np.int64)
