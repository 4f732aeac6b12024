"""The confusion matrix of a detector, with 'nothing there' and 'not found', and what lies behind each cell."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import iou
from avocet.core.detections import PictureDetections, PictureTruth


@dataclass(frozen=True)
class Confusion:
    """Who was taken for whom.

    Attributes
    ----------
    counts : (K + 1, K + 1) ndarray of int64
        Row: the true class, the last for 'nothing there'. Column: the predicted class, the last
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
    entries: list[tuple[int, int, int, int, int]] = []
    for picture, (truth, found) in enumerate(zip(truths, detections, strict=True)):
        entries += _entries(picture, truth, found, classes, threshold)
    table = np.array(entries, dtype=np.int64).reshape(-1, 5)
    counts = np.zeros((classes + 1, classes + 1), dtype=np.int64)
    np.add.at(counts, (table[:, 3], table[:, 4]), 1)
    return Confusion(counts, *table.T)


def _entries(
    picture: int, truth: PictureTruth, found: PictureDetections, classes: int, threshold: float
) -> list[tuple[int, int, int, int, int]]:
    skipped = truth.ignored | truth.crowd
    overlaps = iou(found.boxes, truth.boxes, crowd=truth.crowd)
    free = ~skipped
    entries = []
    for detection in np.argsort(-found.scores, kind="stable").tolist():
        label = int(found.classes[detection])
        near = (overlaps[detection] >= threshold) & free
        own = near & (truth.classes == label)
        chosen = own if own.any() else near
        if chosen.any():
            taken = int(np.where(chosen, overlaps[detection], -1.0).argmax())
            free[taken] = False
            entries.append((picture, taken, detection, int(truth.classes[taken]), label))
        elif not ((overlaps[detection] >= threshold) & skipped).any():
            entries.append((picture, -1, detection, classes, label))
    for missed in np.flatnonzero(free).tolist():
        entries.append((picture, missed, -1, int(truth.classes[missed]), classes))
    return entries
