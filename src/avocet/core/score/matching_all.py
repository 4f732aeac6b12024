"""Matching the detections of many pictures and classes with their truths at once, by the COCO rules."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array, area


@dataclass(frozen=True)
class MatchedAll:
    """Which detections hit, at every threshold and for every area range.

    Attributes
    ----------
    truth : (T, A, D) ndarray of int32
        Index of the truth each detection is matched with, or -1.
    """

    truth: NDArray[np.int32]


def match_all(
    boxes: Array,
    group: NDArray[np.int64],
    rank: NDArray[np.int64],
    truths: Array,
    truth_group: NDArray[np.int64],
    ignored: NDArray[np.bool_],
    crowd: NDArray[np.bool_],
    thresholds: Array,
) -> MatchedAll:
    """Match detections with truths of the same group: the same class in the same picture.

    The rules are those of `avocet.core.score.matching.match`. What makes it quick: the detections of
    rank 0 of all groups choose together, then those of rank 1, and so on; and only pairs that
    reach the lowest threshold are looked at.

    Parameters
    ----------
    boxes : (D, 4) ndarray of float64
    group, rank : (D,) ndarray of int64
        A detection's group, and its place in it by falling score, from 0.
    truths : (G, 4) ndarray of float64
    truth_group : (G,) ndarray of int64
    ignored : (A, G) ndarray of bool
        For each area range, truths that do not count, crowds among them.
    crowd : (G,) ndarray of bool
        Truths that may be taken many times.
    thresholds : (T,) ndarray of float64

    Returns
    -------
    MatchedAll

    Examples
    --------
    >>> boxes = np.array([[0.0, 0, 10, 10], [0, 0, 10, 8]])
    >>> flags = np.zeros(1, bool)
    >>> zeros, ranks = np.zeros(2, np.int64), np.array([0, 1])
    >>> found = match_all(boxes, zeros, ranks, boxes[:1], zeros[:1], flags[None], flags, np.array([0.5]))
    >>> found.truth[0, 0].tolist()
    [0, -1]
    """
    levels = np.minimum(thresholds, 1 - 1e-10)
    taken_by = np.full((len(levels), len(ignored), len(boxes)), -1, dtype=np.int32)
    detection, truth, overlap = overlapping_pairs(
        boxes, group, truths, truth_group, crowd, levels.min(initial=1.0)
    )
    # Round by round, then detection by detection, and the pair to be preferred last.
    order = np.lexsort((truth, overlap, detection, rank[detection]))
    detection, truth, overlap = detection[order], truth[order], overlap[order]
    rounds = np.searchsorted(rank[detection], np.arange(rank.max(initial=-1) + 2))
    free = np.ones((len(levels), len(ignored), len(truths)), dtype=bool)
    for start, stop in zip(rounds.tolist(), rounds[1:].tolist(), strict=False):
        if start == stop:
            continue
        mine, real = detection[start:stop], truth[start:stop]
        count = stop - start
        place = np.arange(1, count + 1, dtype=np.int32)
        # A truth that counts is preferred to an ignored one, whatever their overlaps.
        value = np.where(ignored[:, real], place, place + np.int32(count))
        open_pairs = free[:, :, real] & (overlap[start:stop] >= levels[:, None])[:, None, :]
        heads = np.flatnonzero(np.concatenate([[True], mine[1:] != mine[:-1]]))
        best = np.maximum.reduceat(np.where(open_pairs, value, 0), heads, axis=2)
        level, span, number = np.nonzero(best)
        pair = (best[level, span, number] - 1) % count
        taken_by[level, span, mine[pair]] = real[pair]
        once = ~crowd[real[pair]]
        free[level[once], span[once], real[pair][once]] = False
    return MatchedAll(taken_by)


def overlapping_pairs(
    boxes: Array,
    group: NDArray[np.int64],
    truths: Array,
    truth_group: NDArray[np.int64],
    crowd: NDArray[np.bool_],
    least: float,
) -> tuple[NDArray[np.int64], NDArray[np.int64], Array]:
    """Detections and truths of one group whose IoU reaches ``least``.

    Parameters
    ----------
    boxes : (D, 4) ndarray of float64
    group : (D,) ndarray of int64
    truths : (G, 4) ndarray of float64
    truth_group : (G,) ndarray of int64
    crowd : (G,) ndarray of bool
        Of these, the share of the detection that lies inside is taken for the IoU.
    least : float

    Returns
    -------
    detection, truth : (P,) ndarray of int64
        In order of the detections.
    overlap : (P,) ndarray of float64

    Examples
    --------
    >>> boxes, zeros = np.array([[0.0, 0, 10, 8]]), np.zeros(1, np.int64)
    >>> overlapping_pairs(boxes, zeros, np.array([[0.0, 0, 10, 10]]), zeros, zeros.astype(bool), 0.5)
    (array([0]), array([0]), array([0.8]))
    """
    sort = np.argsort(truth_group, kind="stable")
    ordered = truth_group[sort]
    start = np.searchsorted(ordered, group, side="left")
    counts = np.searchsorted(ordered, group, side="right") - start
    detection = np.repeat(np.arange(len(boxes)), counts)
    ends = np.cumsum(counts)
    step = np.arange(len(detection)) - np.repeat(ends - counts, counts)
    truth = sort[start[detection] + step] if len(detection) else np.zeros(0, np.int64)
    a, b = boxes[detection], truths[truth]
    width = np.minimum(a[:, 2], b[:, 2]) - np.maximum(a[:, 0], b[:, 0])
    height = np.minimum(a[:, 3], b[:, 3]) - np.maximum(a[:, 1], b[:, 1])
    shared = np.maximum(width, 0) * np.maximum(height, 0)
    own = area(a)
    whole = np.where(crowd[truth], own, own + area(b) - shared)
    overlap = np.divide(shared, whole, out=np.zeros_like(shared), where=whole > 0)
    near = overlap >= least
    return detection[near], truth[near], overlap[near]
