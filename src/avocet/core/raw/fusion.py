"""Weighted box fusion: the boxes of several detectors on one picture, combined."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, iou
from avocet.core.detections import PictureDetections

Method = Literal["fusion", "suppression"]
"""How the boxes of several detectors become one answer: combined, or only the surest kept."""

FUSION_IOU = 0.55
"""Overlap from which boxes are taken to mean the same object, as in the paper."""


@dataclass(frozen=True)
class Fused:
    """Combined boxes, best score first, and the boxes that each was made of.

    Attributes
    ----------
    found : PictureDetections
    cluster : (N,) ndarray of int64
        For every box that went in, detector after detector: the combined box that it is part of.
    """

    found: PictureDetections
    cluster: NDArray[np.int64]


def fuse(
    detections: Sequence[PictureDetections],
    weights: ArrayLike | None = None,
    overlap_limit: float = FUSION_IOU,
) -> Fused:
    """Weighted box fusion (Solovyev et al., 2021).

    All boxes are gone through by falling weighted score. One that overlaps a combined box of its
    class by more than the limit joins the one it overlaps most; else it begins a new one. Corners
    are the mean of the members', weighted by their scores; the score is their mean. At the end
    the score of a combined box is lowered where few detectors agree: times min(T, N) / N for T
    members and N detectors. Weights are scaled to a mean of 1.

    Parameters
    ----------
    detections : sequence of PictureDetections
        One entry a detector, all of the same picture.
    weights : (N,) array_like, optional
        How far each detector is trusted; by default all alike.
    overlap_limit : float
        IoU.

    Returns
    -------
    Fused

    Raises
    ------
    ValueError
        If there is no detector, or weights do not fit or are not positive.

    Examples
    --------
    >>> one = PictureDetections([[0, 0, 10, 10]], [0.9], [0])
    >>> two = PictureDetections([[0, 0, 10, 12], [50, 0, 60, 10]], [0.3, 0.8], [0, 0])
    >>> fused = fuse([one, two])
    >>> fused.found.boxes, fused.found.scores
    (array([[ 0. ,  0. , 10. , 10.5],
           [50. ,  0. , 60. , 10. ]]), array([0.6, 0.4]))
    >>> fused.cluster
    array([0, 0, 1])
    """
    if not detections:
        raise ValueError("fusion needs at least one detector")
    trust = np.ones(len(detections)) if weights is None else np.asarray(weights, np.float64).reshape(-1)
    if len(trust) != len(detections) or not (np.isfinite(trust) & (trust > 0)).all():
        raise ValueError("fusion needs a positive weight for each detector")
    trust = trust / trust.mean()
    boxes = np.concatenate([each.boxes for each in detections])
    classes = np.concatenate([each.classes for each in detections])
    scores = np.concatenate([each.scores * w for each, w in zip(detections, trust, strict=True)])
    joined = np.full(len(boxes), -1, dtype=np.int64)
    clusters: list[_Cluster] = []
    # Corners of all combined boxes in one array, so that a box is compared with all at once.
    corners, labels = np.zeros((len(boxes), 4)), np.zeros(len(boxes), dtype=np.int64)
    for number in np.argsort(-scores, kind="stable").tolist():
        count = len(clusters)
        overlaps = np.where(labels[:count] == classes[number], iou(boxes[[number]], corners[:count])[0], 0.0)
        chosen = int(overlaps.argmax()) if count else -1
        if chosen < 0 or overlaps[chosen] <= overlap_limit:
            chosen = count
            clusters.append(_Cluster())
            labels[chosen] = classes[number]
        clusters[chosen].add(boxes[number], float(scores[number]))
        corners[chosen] = clusters[chosen].corners
        joined[number] = chosen
    models = len(detections)
    made = np.array([each.total / each.members * min(each.members, models) / models for each in clusters])
    # Weights can carry a mean over 1.
    made = np.clip(made, 0, 1) if len(made) else np.zeros(0)
    order = np.argsort(-made, kind="stable")
    place = np.empty(len(order), dtype=np.int64)
    place[order] = np.arange(len(order))
    count = len(clusters)
    found = PictureDetections(corners[:count][order], made[order], labels[:count][order])
    return Fused(found, place[joined] if len(joined) else joined)


class _Cluster:
    """Boxes that mean the same object."""

    def __init__(self) -> None:
        self._sum, self.total, self.members = np.zeros(4), 0.0, 0
        self._plain = np.zeros(4)

    def add(self, box: Array, score: float) -> None:
        self._sum += score * box
        self._plain += box
        self.total += score
        self.members += 1

    @property
    def corners(self) -> Array:
        return self._sum / self.total if self.total > 0 else self._plain / self.members
