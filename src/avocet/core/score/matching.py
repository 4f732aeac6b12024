"""Matching: which detection found which truth, by the COCO rules."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, as_boxes, iou


@dataclass(frozen=True)
class Matches:
    """Who found whom, at each IoU threshold.

    Attributes
    ----------
    truth_of_detection : (T, D) ndarray of int64
        Index of the truth each detection is matched with, or -1.
    detection_of_truth : (T, G) ndarray of int64
        Index of the detection each truth is matched with, or -1.
    detection_ignored : (T, D) ndarray of bool
        Detections matched with an ignored truth: neither hits nor false alarms.
    """

    truth_of_detection: NDArray[np.int64]
    detection_of_truth: NDArray[np.int64]
    detection_ignored: NDArray[np.bool_]


def match(
    detections: ArrayLike,
    scores: ArrayLike,
    truths: ArrayLike,
    thresholds: ArrayLike,
    ignored: ArrayLike | None = None,
    crowd: ArrayLike | None = None,
) -> Matches:
    """Match the detections of one class in one picture with its truths.

    The published COCO rules: detections choose in order of falling score; each takes the free
    truth of highest IoU that reaches the threshold; a truth that counts is preferred to an
    ignored one; a crowd may be taken many times, and its overlap is measured against the
    detection's own area. Of equal overlaps the later truth is taken.

    Parameters
    ----------
    detections : (D, 4) array_like
    scores : (D,) array_like
    truths : (G, 4) array_like
    thresholds : (T,) array_like
        IoU that a match needs.
    ignored, crowd : (G,) array_like of bool, optional
        Truths that are not counted; crowds are always ignored too.

    Returns
    -------
    Matches

    Raises
    ------
    ValueError
        If the numbers of boxes, scores and flags do not match.

    Examples
    --------
    >>> found = match([[0, 0, 10, 10], [0, 0, 10, 8]], [0.6, 0.9], [[0, 0, 10, 10]], [0.5, 0.9])
    >>> found.truth_of_detection
    array([[-1,  0],
           [ 0, -1]])
    """
    found, values, real = as_boxes(detections), np.asarray(scores, np.float64).reshape(-1), as_boxes(truths)
    levels = np.asarray(thresholds, dtype=np.float64).reshape(-1)
    is_crowd = _flags(crowd, len(real), "crowd")
    is_ignored = _flags(ignored, len(real), "ignored") | is_crowd
    if len(values) != len(found):
        raise ValueError(f"{len(found)} detections and {len(values)} scores do not match")

    truth_of = np.full((len(levels), len(found)), -1, dtype=np.int64)
    detection_of = np.full((len(levels), len(real)), -1, dtype=np.int64)
    was_ignored = np.zeros((len(levels), len(found)), dtype=bool)
    if len(found) and len(real):
        # Truths that count come first, so that an ignored one is only taken when none of them fits.
        preference = np.argsort(is_ignored, kind="stable")
        counted = int((~is_ignored).sum())
        overlaps = iou(found, real[preference], crowd=is_crowd[preference])
        crowd_in_order = is_crowd[preference]
        order = np.argsort(-values, kind="stable")
        for level, threshold in enumerate(np.minimum(levels, 1 - 1e-10)):
            free = np.ones(len(real), dtype=bool)
            for detection in order:
                row = np.where(free, overlaps[detection], -1.0)
                taken = _best(row[:counted], threshold)
                if taken < 0:
                    rest = _best(row[counted:], threshold)
                    taken = counted + rest if rest >= 0 else -1
                if taken < 0:
                    continue
                free[taken] = crowd_in_order[taken]
                truth = preference[taken]
                truth_of[level, detection] = truth
                detection_of[level, truth] = detection
                was_ignored[level, detection] = is_ignored[truth]
    return Matches(truth_of, detection_of, was_ignored)


def _best(overlaps: Array, threshold: float) -> int:
    """Last position of the highest overlap that reaches the threshold, or -1."""
    if not len(overlaps):
        return -1
    position = len(overlaps) - 1 - int(overlaps[::-1].argmax())
    return position if overlaps[position] >= threshold else -1


def _flags(flags: ArrayLike | None, count: int, name: str) -> NDArray[np.bool_]:
    if flags is None:
        return np.zeros(count, dtype=bool)
    array = np.asarray(flags, dtype=bool).reshape(-1)
    if len(array) != count:
        raise ValueError(f"{count} truths and {len(array)} {name} flags do not match")
    return array
