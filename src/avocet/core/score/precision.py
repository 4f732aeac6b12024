"""Average precision: from matched detections to precision-recall curves, AP and mAP."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array
from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.score.measurement import RECALL_POINTS, measure_detections
from avocet.core.score.recalls import precision_over_recalls

Interpolation = Literal["101-point", "11-point", "exact-area"]
INTERPOLATIONS: Mapping[str, int] = {"101-point": RECALL_POINTS, "11-point": 11, "exact-area": 0}
"""Recalls at which precision is read; none takes the exact area."""

COCO_THRESHOLDS = np.round(np.arange(0.5, 0.96, 0.05), 2)
"""IoU 0.50:0.05:0.95."""

MOST_DETECTIONS = 100
"""Detections of one class in one picture beyond this many, by score, are not looked at."""


@dataclass(frozen=True)
class ClassPrecision:
    """One class over all pictures.

    Attributes
    ----------
    average_precision : (T,) ndarray of float64
        At each IoU threshold; NaN where the class has no truth that counts.
    truths : int
        Truths that count.
    detections : int
        Detections looked at.
    hits : (T,) ndarray of int64
    false_alarms : (T,) ndarray of int64
    """

    average_precision: Array
    truths: int
    detections: int
    hits: NDArray[np.int64]
    false_alarms: NDArray[np.int64]


@dataclass(frozen=True)
class Precision:
    """Mean average precision, and the classes behind it.

    Attributes
    ----------
    thresholds : (T,) ndarray of float64
    classes : dict of int to ClassPrecision
    """

    thresholds: Array
    classes: Mapping[int, ClassPrecision]

    def mean(self, threshold: float | None = None) -> float:
        """mAP at one IoU threshold, or over all of them; NaN where no class has a truth."""
        if threshold is None:
            chosen = slice(None)
        else:
            near = np.flatnonzero(np.isclose(self.thresholds, threshold))
            if not len(near):
                raise ValueError(f"nothing was measured at IoU {threshold}")
            chosen = slice(int(near[0]), int(near[0]) + 1)
        values = [entry.average_precision[chosen] for entry in self.classes.values() if entry.truths]
        return float(np.mean(values)) if values else float("nan")


def average_precision(
    scores: ArrayLike, hits: ArrayLike, truths: int, interpolation: Interpolation = "101-point"
) -> float:
    """Average precision of detections that are each a hit or a false alarm.

    Parameters
    ----------
    scores : (D,) array_like
    hits : (D,) array_like of bool
        True where the detection found a truth, false where it is a false alarm.
    truths : int
        How many truths there were to find.
    interpolation : {'101-point', '11-point', 'exact-area'}
        How the area under the precision-recall curve is taken, always under its falling
        envelope: the mean precision at recalls 0, 0.01, …, 1 (COCO), at 0, 0.1, …, 1 (Pascal
        VOC 2007), or the exact area (Pascal VOC 2010).

    Returns
    -------
    float
        Between 0 and 1; NaN if there is no truth.

    Raises
    ------
    ValueError
        If the interpolation is unknown.

    Examples
    --------
    Two truths; a hit, a false alarm, a hit:

    >>> average_precision([0.9, 0.8, 0.7], [True, False, True], 2, "exact-area")
    0.8333333333333333
    """
    if truths == 0:
        return float("nan")
    if interpolation not in INTERPOLATIONS:
        raise ValueError(f"unknown interpolation {interpolation!r}")
    order = np.argsort(-np.asarray(scores, np.float64), kind="stable")
    places = np.flatnonzero(np.asarray(hits, bool)[order])
    found, seen = np.arange(1.0, len(places) + 1)[:, None], (places[:, None] + 1).astype(np.float64)
    return float(
        precision_over_recalls(found, seen, np.array([float(truths)]), INTERPOLATIONS[interpolation])[0]
    )


def precision_recall(scores: ArrayLike, hits: ArrayLike, truths: int) -> tuple[Array, Array]:
    """Recall and precision after each detection, in order of falling score.

    Parameters
    ----------
    scores : (D,) array_like
    hits : (D,) array_like of bool
    truths : int
        Above 0.

    Returns
    -------
    recall, precision : (D,) ndarray of float64

    Examples
    --------
    >>> precision_recall([0.8, 0.9], [False, True], 2)
    (array([0.5, 0.5]), array([1. , 0.5]))
    """
    order = np.argsort(-np.asarray(scores, np.float64), kind="stable")
    found = np.cumsum(np.asarray(hits, bool)[order])
    return found / truths, found / np.arange(1, len(order) + 1)


def evaluate(
    truths: Sequence[PictureTruth],
    detections: Sequence[PictureDetections],
    class_ids: Sequence[int],
    thresholds: ArrayLike = COCO_THRESHOLDS,
    interpolation: Interpolation = "101-point",
    most_detections: int = MOST_DETECTIONS,
) -> Precision:
    """Mean average precision of a detector over pictures, by the published COCO rules.

    Parameters
    ----------
    truths, detections : sequence
        One entry a picture, in the same order.
    class_ids : sequence of int
        The classes to measure.
    thresholds : (T,) array_like
        IoU thresholds.
    interpolation : {'101-point', '11-point', 'exact-area'}
    most_detections : int
        Detections looked at for one class in one picture, best first.

    Returns
    -------
    Precision

    Raises
    ------
    ValueError
        If there are not as many pictures of truths as of detections.

    Examples
    --------
    >>> truth = PictureTruth(boxes=[[0, 0, 10, 10]], classes=[3])
    >>> found = PictureDetections(boxes=[[0, 0, 10, 8]], scores=[0.9], classes=[3])
    >>> result = evaluate([truth], [found], class_ids=[3])
    >>> result.mean(0.5), round(result.mean(), 3)
    (1.0, 0.7)
    """
    if len(truths) != len(detections):
        raise ValueError(f"{len(truths)} pictures of truths, but {len(detections)} of detections")
    if interpolation not in INTERPOLATIONS:
        raise ValueError(f"unknown interpolation {interpolation!r}")
    points = INTERPOLATIONS[interpolation]
    measured = measure_detections(
        truths, detections, class_ids, thresholds, limits=(most_detections,), points=points
    )
    classes = {
        int(class_id): ClassPrecision(
            average_precision=measured.average_precision[:, number, 0],
            truths=int(measured.truths[number, 0]),
            detections=int(measured.detections[number]),
            hits=measured.hits[:, number, 0],
            false_alarms=measured.false_alarms[:, number, 0],
        )
        for number, class_id in enumerate(measured.class_ids)
    }
    return Precision(measured.thresholds, classes)
