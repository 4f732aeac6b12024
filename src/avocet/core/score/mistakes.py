"""Why a detector was wrong: every error is of one kind, and mending a kind alone would bring so much mAP."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.flattened import Flat, flatten, rank_in_group
from avocet.core.score.matching_all import match_all, overlapping_pairs
from avocet.core.score.precision import MOST_DETECTIONS, average_precision

KINDS = (
    "wrong class", "too large", "too small", "shifted", "wrong class and place", "duplicate", "background",
    "no candidate", "under the minimum score", "suppressed",
)  # fmt: skip
(
    WRONG_CLASS, TOO_LARGE, TOO_SMALL, SHIFTED, BOTH, DUPLICATE, NOTHING_THERE, NO_CANDIDATE, TOO_LOW, SUPPRESSED,
) = range(len(KINDS))  # fmt: skip
BADLY_PLACED = (TOO_LARGE, TOO_SMALL, SHIFTED)
NOT_FOUND = (NO_CANDIDATE, TOO_LOW, SUPPRESSED)

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
    gains : (10,) ndarray of float64
        By kind, how much higher mAP would be: 0 where there is no error of the kind.
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
    candidates: Sequence[PictureDetections] | None = None,
    minimum_score: float = 0.0,
) -> Mistakes:
    """Sort the errors of a detector by kind.

    The sorting goes back to Hoiem et al. (2012) and Bolya et al. (2020), and is finer: a detection that
    hit nothing is a duplicate if it overlaps a truth of its class that a better one has taken; of the
    wrong class if it overlaps one of another class by the threshold; badly placed if it overlaps one of
    its own class by less; of wrong class and place if that is one of another class; and else there was
    nothing. One that is badly placed is shifted if its size alone would do, and else too large or too
    small. A truth is not found if no detection took it and none of the wrong class or badly placed was
    about it: because there was no candidate for it, because all were under the minimum score, or because
    another box suppressed it.

    Each kind is mended alone: a wrong class or place is put right if its truth is still free and
    left out if not; the other wrong detections are left out; what was not found is not asked for.

    Parameters
    ----------
    truths, detections : sequence
        One entry a picture, in the same order.
    classes : int
    threshold, background : float
        IoU of a hit, and IoU under which nothing was meant.
    candidates : sequence, optional
        What the detector had before the minimum score and suppression; without it, the detections.
    minimum_score : float
        That the detections were kept from.

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
    (['duplicate', 'wrong class'], 0.5, [0.5, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0])
    """
    if len(truths) != len(detections):
        raise ValueError(f"{len(truths)} pictures of truths, but {len(detections)} of detections")
    numbers = np.arange(classes)
    mine, real = flatten(detections, numbers), flatten(truths, numbers)
    rank = rank_in_group(mine.group, mine.scores)
    mine, rank = mine.some(rank < MOST_DETECTIONS), rank[rank < MOST_DETECTIONS]
    taken = match_all(
        mine.boxes, mine.group, rank, real.boxes, real.group, real.flags[None], real.crowd, np.array([threshold])
    ).truth[0, 0]  # fmt: skip
    hit = np.zeros(len(taken), dtype=bool)
    hit[taken >= 0] = ~real.flags[taken[taken >= 0]]
    wrong = np.flatnonzero(taken < 0)
    kind, about, overlap = _kinds(mine.some(wrong), real, threshold, background)

    free = ~real.flags
    free[taken[hit]] = False
    goal = _goals(kind, about, mine.scores[wrong], real.kind, free)
    covered = np.zeros(len(free), dtype=bool)
    covered[about[np.isin(kind, (WRONG_CLASS, *BADLY_PLACED))]] = True
    lost = np.flatnonzero(free & ~covered)
    had = mine if candidates is None else flatten(candidates, numbers)
    reason = _reasons(real.some(lost), had, mine, threshold, minimum_score)

    asked = np.bincount(real.kind[~real.flags], minlength=classes)
    # In their order, as of equal scores the earlier comes first.
    kinds, goals = np.full(len(taken), -1, dtype=np.int64), np.full(len(taken), -1, dtype=np.int64)
    kinds[wrong], goals[wrong] = kind, goal
    used = hit | (taken < 0)
    entries = _Entries(mine.kind[used], mine.scores[used], kinds[used], goals[used])
    mean = entries.mean(asked, None)
    gains = [entries.mean(asked, number) - mean for number in range(NO_CANDIDATE)]
    for number in NOT_FOUND:
        given_up = np.bincount(real.kind[lost[reason == number]], minlength=classes)
        gains.append(entries.mean(asked - given_up, None) - mean)
    picture = np.concatenate([mine.owner[wrong], real.owner[lost]])
    order = np.argsort(picture, kind="stable")
    return Mistakes(
        np.concatenate([kind, reason])[order],
        picture[order],
        np.concatenate([mine.index[wrong], np.full(len(lost), -1)])[order],
        np.concatenate(
            [np.where(about >= 0, real.index[about] if len(real.index) else -1, -1), real.index[lost]]
        )[order],
        np.concatenate([overlap, np.zeros(len(lost))])[order],
        mean,
        np.array(gains),
    )


def _kinds(
    wrong: Flat, real: Flat, threshold: float, background: float
) -> tuple[NDArray[np.int64], NDArray[np.int64], Array]:
    """Of each wrong detection the kind of error, the truth that it is about or -1, and their IoU."""
    detection, truth, overlap = overlapping_pairs(
        wrong.boxes, wrong.owner, real.boxes, real.owner, real.crowd, background
    )
    counts = ~real.flags[truth]
    own = wrong.kind[detection] == real.kind[truth]
    near, mine = _best(detection, truth, overlap, counts & own, len(wrong.boxes))
    far, other = _best(detection, truth, overlap, counts & ~own, len(wrong.boxes))
    kind = np.select(
        [near >= threshold, far >= threshold, near >= background, far >= background],
        [DUPLICATE, WRONG_CLASS, SHIFTED, BOTH],
        NOTHING_THERE,
    )
    placed = np.flatnonzero(kind == SHIFTED)
    size, wanted = (box[:, 2:] - box[:, :2] for box in (wrong.boxes[placed], real.boxes[mine[placed]]))
    like = np.minimum(size, wanted).prod(axis=1)
    unlike = like < threshold * (size.prod(axis=1) + wanted.prod(axis=1) - like)
    larger = size.prod(axis=1) > wanted.prod(axis=1)
    kind[placed[unlike]] = np.where(larger[unlike], TOO_LARGE, TOO_SMALL)
    of_own = np.isin(kind, (DUPLICATE, *BADLY_PLACED))
    about = np.where(of_own, mine, np.where(kind == NOTHING_THERE, -1, other))
    return kind, about, np.where(of_own, near, np.where(kind == NOTHING_THERE, 0.0, far))


def _reasons(
    lost: Flat, candidates: Flat, kept: Flat, threshold: float, minimum_score: float
) -> NDArray[np.int64]:
    """Of each truth that was not found, why."""
    near = [np.zeros(len(lost.boxes), dtype=np.int64) for _ in range(3)]
    high = candidates.some(candidates.scores >= minimum_score)
    for count, some in zip(near, (candidates, high, kept), strict=True):
        # Groups of picture and class: a candidate of another class is none.
        _, truth, _ = overlapping_pairs(some.boxes, some.group, lost.boxes, lost.group, lost.crowd, threshold)
        count += np.bincount(truth, minlength=len(count))
    any_at_all, high_enough, left = near
    # What is left went to another truth.
    return np.select(
        [high_enough > left, (any_at_all > 0) & (high_enough == 0)], [SUPPRESSED, TOO_LOW], NO_CANDIDATE
    ).astype(np.int64)


def _best(
    detection: NDArray[np.int64],
    truth: NDArray[np.int64],
    overlap: Array,
    some: NDArray[np.bool_],
    count: int,
) -> tuple[Array, NDArray[np.int64]]:
    """Of each detection the greatest IoU among some pairs, and whose it is; 0 and -1 without any."""
    best, whose = np.zeros(count), np.full(count, -1, dtype=np.int64)
    pairs = np.flatnonzero(some)
    # Written in rising order, so that the greatest stays; of equal ones the truth that stands first.
    pairs = pairs[np.lexsort((-truth[pairs], overlap[pairs]))]
    best[detection[pairs]], whose[detection[pairs]] = overlap[pairs], truth[pairs]
    return best, whose


def _goals(
    kind: NDArray[np.int64],
    about: NDArray[np.int64],
    scores: Array,
    truth_kind: NDArray[np.int64],
    free: NDArray[np.bool_],
) -> NDArray[np.int64]:
    """The class that a wrong detection would be a hit of when its kind alone is mended, or -1."""
    goal = np.full(len(kind), -1, dtype=np.int64)
    for mended in (WRONG_CLASS, *BADLY_PLACED):
        these = np.flatnonzero(kind == mended)
        these = these[free[about[these]]]
        these = these[np.argsort(-scores[these], kind="stable")]
        # The surest of those about one truth would find it.
        _, first = np.unique(about[these], return_index=True)
        goal[these[first]] = truth_kind[about[these[first]]]
    return goal


@dataclass(frozen=True)
class _Entries:
    """Hits (kind -1) and wrong detections, and what each would be if its kind were mended."""

    label: NDArray[np.int64]
    scores: Array
    kind: NDArray[np.int64]
    goal: NDArray[np.int64]

    def mean(self, asked: NDArray[np.int64], mended: int | None) -> float:
        """Mean average precision with one kind mended."""
        put_right = (self.kind == mended) & (self.goal >= 0) if mended is not None else self.kind == -2
        stays = put_right | (self.kind != mended)
        label = np.where(put_right, self.goal, self.label)[stays]
        scores, right = self.scores[stays], ((self.kind == -1) | put_right)[stays]
        values = [
            average_precision(scores[label == number], right[label == number], int(count))
            for number, count in enumerate(asked)
            if count
        ]
        return float(np.mean(values)) if values else float("nan")
