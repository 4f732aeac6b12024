"""Why a detector was wrong: every error is of one kind, and mending a kind alone would bring so much mAP."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array, iou
from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.matching import match
from avocet.core.precision import MOST_DETECTIONS, average_precision

KINDS = ("wrong class", "badly placed", "both", "duplicate", "nothing there", "not found")
WRONG_CLASS, BADLY_PLACED, BOTH, DUPLICATE, NOTHING_THERE, NOT_FOUND = range(len(KINDS))

BACKGROUND_IOU = 0.1
"""A prediction that overlaps every truth by less than this meant none of them."""


@dataclass(frozen=True)
class Mistakes:
    """All errors of a detector, and the mAP that mending each kind alone would bring.

    Attributes
    ----------
    kind : (E,) ndarray of int64
        Place in `KINDS`.
    picture : (E,) ndarray of int64
    detection, truth : (E,) ndarray of int64
        In the picture: what was predicted, and the truth that it was about; -1 where there is none.
    overlap : (E,) ndarray of float64
        IoU of the two.
    mean : float
        mAP at the threshold as it is; NaN without truths.
    gains : (6,) ndarray of float64
        By kind, how much higher mAP would be.
    """

    kind: NDArray[np.int64]
    picture: NDArray[np.int64]
    detection: NDArray[np.int64]
    truth: NDArray[np.int64]
    overlap: Array
    mean: float
    gains: Array


def find_mistakes(
    truths: Sequence[PictureTruth],
    detections: Sequence[PictureDetections],
    classes: int,
    threshold: float = 0.5,
    background: float = BACKGROUND_IOU,
) -> Mistakes:
    """Sort the errors of a detector by kind (Bolya et al., 2020).

    A detection that hit nothing is a duplicate if it overlaps a truth of its class that a better
    one has taken; of the wrong class if it overlaps one of another class by the threshold; badly
    placed if it overlaps one of its own class by less; both if that is one of another class; and
    else there was nothing. A truth is not found if no detection took it and none of the wrong
    class or badly placed was about it.

    Each kind is mended alone: a wrong class or place is put right if its truth is still free and
    left out if not; the other wrong detections are left out; what was not found is not asked for.

    Parameters
    ----------
    truths, detections : sequence
        One entry a picture, in the same order.
    classes : int
    threshold, background : float
        IoU of a hit, and IoU under which nothing was meant.

    Returns
    -------
    Mistakes

    Raises
    ------
    ValueError
        If there are not as many pictures of truths as of detections.

    Examples
    --------
    A roll found, and found once more; a ring taken for a roll:

    >>> truth = PictureTruth(boxes=[[0, 0, 10, 10], [50, 0, 60, 10]], classes=[0, 1])
    >>> found = PictureDetections(
    ...     boxes=[[0, 0, 10, 10], [0, 0, 10, 9], [50, 0, 60, 10]], scores=[0.9, 0.8, 0.7], classes=[0, 0, 0])
    >>> made = find_mistakes([truth], [found], classes=2)
    >>> [KINDS[kind] for kind in made.kind], made.mean, made.gains.tolist()
    (['duplicate', 'wrong class'], 0.5, [0.5, 0.0, 0.0, 0.0, 0.0, 0.0])
    """
    if len(truths) != len(detections):
        raise ValueError(f"{len(truths)} pictures of truths, but {len(detections)} of detections")
    book = _Book(classes)
    for picture, (truth, found) in enumerate(zip(truths, detections, strict=True)):
        _sort_picture(book, picture, truth, found, threshold, background)
    table = np.array(book.errors, dtype=np.int64).reshape(-1, 4)
    mean = book.mean(None)
    gains = np.array([book.mean(kind) - mean for kind in range(len(KINDS))])
    return Mistakes(
        table[:, 3],
        table[:, 0],
        table[:, 1],
        table[:, 2],
        np.array(book.overlaps, dtype=np.float64),
        mean,
        gains,
    )


class _Book:
    """Every detection that counts, with what it would be if its kind of error were mended."""

    def __init__(self, classes: int) -> None:
        self.classes = classes
        self.truths = np.zeros(classes, dtype=np.int64)
        self.lost = np.zeros(classes, dtype=np.int64)
        self.errors: list[tuple[int, int, int, int]] = []
        self.overlaps: list[float] = []
        # Of every detection: class, score, kind of error or -1 for a hit, the class it would be a
        # hit of when mended or -1 where it would go.
        self.entries: list[tuple[int, float, int, int]] = []

    def mean(self, mended: int | None) -> float:
        """MAP with one kind mended."""
        label, score, kind, goal = (
            (np.array(each) for each in zip(*self.entries, strict=True))
            if self.entries
            else (np.zeros(0),) * 4
        )
        asked = self.truths - (self.lost if mended == NOT_FOUND else 0)
        right = kind == -1
        if mended is not None and mended != NOT_FOUND:
            put_right = (kind == mended) & (goal >= 0)
            label = np.where(put_right, goal, label)
            stays = (kind != mended) | put_right
            label, score, right = label[stays], score[stays], (right | put_right)[stays]
        values = [
            average_precision(score[label == number], right[label == number], int(asked[number]))
            for number in range(self.classes)
            if asked[number]
        ]
        return float(np.mean(values)) if values else float("nan")


def _sort_picture(
    book: _Book,
    picture: int,
    truth: PictureTruth,
    found: PictureDetections,
    threshold: float,
    background: float,
) -> None:
    counts = ~(truth.ignored | truth.crowd)
    overlaps = iou(found.boxes, truth.boxes, crowd=truth.crowd)
    taken = np.full(len(found.boxes), -1, dtype=np.int64)
    looked_at = np.zeros(len(found.boxes), dtype=bool)
    for label in np.unique(found.classes):
        mine = np.flatnonzero(found.classes == label)
        mine = mine[np.argsort(-found.scores[mine], kind="stable")[:MOST_DETECTIONS]]
        real = np.flatnonzero(truth.classes == label)
        looked_at[mine] = True
        if len(real):
            matches = match(
                found.boxes[mine], found.scores[mine], truth.boxes[real], [threshold],
                ignored=truth.ignored[real], crowd=truth.crowd[real],
            ).truth_of_detection[0]  # fmt: skip
            taken[mine[matches >= 0]] = real[matches[matches >= 0]]
    free = counts.copy()
    free[taken[taken >= 0]] = False
    own = counts & (truth.classes[None, :] == found.classes[:, None])
    other = counts & ~own
    covered = np.zeros(len(truth.boxes), dtype=bool)
    promised = ~free
    for number in np.argsort(-found.scores, kind="stable").tolist():
        label, score = int(found.classes[number]), float(found.scores[number])
        hit = int(taken[number])
        if not looked_at[number] or not 0 <= label < book.classes or (hit >= 0 and not counts[hit]):
            continue
        if hit >= 0:
            book.entries.append((label, score, -1, -1))
            continue
        kind, about = _kind(
            np.where(own[number], overlaps[number], 0.0),
            np.where(other[number], overlaps[number], 0.0),
            threshold,
            background,
        )
        goal = -1
        if kind in (WRONG_CLASS, BADLY_PLACED):
            covered[about] = True
            if not promised[about]:
                promised[about] = True
                goal = int(truth.classes[about])
        book.entries.append((label, score, kind, goal))
        book.errors.append((picture, number, about, kind))
        book.overlaps.append(float(overlaps[number, about]) if about >= 0 else 0.0)
    for number in np.flatnonzero(counts).tolist():
        label = int(truth.classes[number])
        if not 0 <= label < book.classes:
            continue
        book.truths[label] += 1
        if free[number] and not covered[number]:
            book.lost[label] += 1
            book.errors.append((picture, -1, number, NOT_FOUND))
            book.overlaps.append(0.0)


def _kind(own: Array, other: Array, threshold: float, background: float) -> tuple[int, int]:
    """The kind of error, and the truth that it is about or -1."""
    if not len(own):
        return NOTHING_THERE, -1
    mine, others = int(own.argmax()), int(other.argmax())
    if own[mine] >= threshold:
        return DUPLICATE, mine
    if other[others] >= threshold:
        return WRONG_CLASS, others
    if own[mine] >= background:
        return BADLY_PLACED, mine
    if other[others] >= background:
        return BOTH, others
    return NOTHING_THERE, -1
