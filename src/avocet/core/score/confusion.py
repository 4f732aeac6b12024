"""The confusion matrix of a detector, with 'background' and 'not found', and what lies behind each cell."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.flattened import flatten, rank_in_group
from avocet.core.score.matching_all import overlapping_pairs


@dataclass(frozen=True)
class Confusion:
    """Who was taken for whom.

    Attributes
    ----------
    counts : (K + 1, K + 1) ndarray of int64
        Row: the true class, the last for 'background'. Column: the predicted class, the last
        for 'not found'.
    picture, truth, detection : (E,) ndarray of int64
        Every entry of the matrix: its picture, and its truth and detection in the picture or -1.
    row, column : (E,) ndarray of int64
        The cell of each entry.
    """

    counts: NDArray[np.int64]
    picture: NDArray[np.int64]
    truth: NDArray[np.int64]
    detection: NDArray[np.int64]
    row: NDArray[np.int64]
    column: NDArray[np.int64]


def confusion(
    truths: Sequence[PictureTruth],
    detections: Sequence[PictureDetections],
    classes: int,
    threshold: float = 0.5,
) -> Confusion:
    """Match across classes and count who was taken for whom.

    In order of falling score each detection takes a free truth that it overlaps by the
    threshold or more: the one of its own class that it overlaps most, else the one of any class.
    Detections of ignored truths and the ignored truths themselves are left out.

    Parameters
    ----------
    truths, detections : sequence
        One entry a picture, in the same order; detections are those above the chosen score.
    classes : int
    threshold : float
        IoU.

    Returns
    -------
    Confusion

    Raises
    ------
    ValueError
        If there are not as many pictures of truths as of detections.

    Examples
    --------
    A roll taken for a ring, and a ring where nothing is:

    >>> truth = PictureTruth(boxes=[[0, 0, 10, 10]], classes=[0])
    >>> found = PictureDetections(boxes=[[0, 0, 10, 9], [50, 50, 60, 60]], scores=[0.9, 0.8], classes=[1, 1])
    >>> confusion([truth], [found], classes=2).counts.tolist()
    [[0, 1, 0], [0, 0, 0], [0, 1, 0]]
    """
    if len(truths) != len(detections):
        raise ValueError(f"{len(truths)} pictures of truths, but {len(detections)} of detections")
    numbers = np.arange(classes)
    mine, real = flatten(detections, numbers), flatten(truths, numbers)
    rank = rank_in_group(mine.owner, mine.scores)
    pairs = overlapping_pairs(mine.boxes, mine.owner, real.boxes, real.owner, real.crowd, threshold)
    excused = np.zeros(len(mine.boxes), dtype=bool)
    excused[pairs[0][real.flags[pairs[1]]]] = True
    taken, free = _choose(*pairs, rank, mine.kind, real.kind, ~real.flags)
    hit = np.flatnonzero(taken >= 0)
    alone = np.flatnonzero((taken < 0) & ~excused)
    missed = np.flatnonzero(free)
    # Picture, truth, detection, row, column; 'background' and 'not found' are the last of each.
    rows = [
        (mine.owner[hit], real.index[taken[hit]], mine.index[hit], real.kind[taken[hit]], mine.kind[hit]),
        (
            mine.owner[alone],
            np.full(len(alone), -1),
            mine.index[alone],
            np.full(len(alone), classes),
            mine.kind[alone],
        ),
        (
            real.owner[missed],
            real.index[missed],
            np.full(len(missed), -1),
            real.kind[missed],
            np.full(len(missed), classes),
        ),
    ]
    table = np.concatenate([np.stack(columns, axis=1) for columns in rows]).astype(np.int64)
    counts = np.zeros((classes + 1, classes + 1), dtype=np.int64)
    np.add.at(counts, (table[:, 3], table[:, 4]), 1)
    return Confusion(counts, *table.T)


def _choose(
    detection: NDArray[np.int64],
    truth: NDArray[np.int64],
    overlap: Array,
    rank: NDArray[np.int64],
    kind: NDArray[np.int64],
    truth_kind: NDArray[np.int64],
    free: NDArray[np.bool_],
) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """The truth that each detection takes or -1, and the truths that stay free.

    The best detections of all pictures choose together, then the second best, and so on: they
    cannot be in each other's way.
    """
    taken = np.full(len(rank), -1, dtype=np.int64)
    own = kind[detection] == truth_kind[truth]
    # The pair to be preferred last: own class, then overlap, then the truth that stands first.
    order = np.lexsort((-truth, overlap, own, detection, rank[detection]))
    order = order[free[truth[order]]]
    detection, truth = detection[order], truth[order]
    rounds = np.searchsorted(rank[detection], np.arange(rank.max(initial=-1) + 2))
    for start, stop in zip(rounds.tolist(), rounds[1:].tolist(), strict=False):
        if start == stop:
            continue
        mine, real = detection[start:stop], truth[start:stop]
        place = np.where(free[real], np.arange(1, stop - start + 1), 0)
        heads = np.flatnonzero(np.concatenate([[True], mine[1:] != mine[:-1]]))
        best = np.maximum.reduceat(place, heads)
        chosen = best[best > 0] - 1
        taken[mine[chosen]] = real[chosen]
        free[real[chosen]] = False
    return taken, free
