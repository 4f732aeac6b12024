"""Measuring a detector over many pictures: AP and recall by class, IoU and object size, in one pass."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array
from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.flattened import flatten, rank_in_group
from avocet.core.score.matching_all import match_all
from avocet.core.score.recalls import precision_over_recalls

Areas = Mapping[str, tuple[float, float]]

ALL: Areas = {"all": (0.0, float("inf"))}
RECALL_POINTS = 101
"""Recalls at which precision is read, as COCO has them."""

AREA_BOUNDS = (32.0, 96.0)
"""Sides of a square in pixels, as COCO has them: up to the first an object is small, up to the second medium."""


def area_ranges(bounds: Sequence[float] = AREA_BOUNDS) -> Areas:
    """Ranges of box area in square pixels for small, medium, large and all objects.

    Parameters
    ----------
    bounds : (float, float)
        Sides of a square in pixels. Both ends belong to a range.

    Returns
    -------
    dict of str to (float, float)

    Examples
    --------
    >>> area_ranges()["medium"]
    (1024.0, 9216.0)
    """
    small, medium = (float(side) ** 2 for side in bounds)
    endless = float("inf")
    return {
        "all": (0.0, endless),
        "small": (0.0, small),
        "medium": (small, medium),
        "large": (medium, endless),
    }


@dataclass(frozen=True)
class Measurement:
    """What was measured. T thresholds, K classes, A area ranges, M limits of detections a picture.

    Attributes
    ----------
    thresholds : (T,) ndarray of float64
    class_ids : (K,) ndarray of int64
    areas : tuple of str
    limits : tuple of int
    average_precision : (T, K, A) ndarray of float64
        NaN where a class has no truth that counts.
    recall : (T, K, A, M) ndarray of float64
        The greatest recall with at most so many detections a class and picture.
    truths : (K, A) ndarray of int64
    detections : (K,) ndarray of int64
        Detections looked at.
    hits, false_alarms : (T, K, A) ndarray of int64
    """

    thresholds: Array
    class_ids: NDArray[np.int64]
    areas: tuple[str, ...]
    limits: tuple[int, ...]
    average_precision: Array
    recall: Array
    truths: NDArray[np.int64]
    detections: NDArray[np.int64]
    hits: NDArray[np.int64]
    false_alarms: NDArray[np.int64]

    def mean(self, threshold: float | None = None, area: str = "all") -> float:
        """mAP at one IoU threshold, or over all of them; NaN where no class has a truth."""
        levels = slice(None) if threshold is None else [self._level(threshold)]
        return _mean(self.average_precision[levels, :, self.areas.index(area)])

    def mean_recall(self, limit: int | None = None, area: str = "all") -> float:
        """AR: mean over thresholds and classes of the greatest recall; by default at the last limit."""
        column = -1 if limit is None else self.limits.index(limit)
        return _mean(self.recall[:, :, self.areas.index(area), column])

    def _level(self, threshold: float) -> int:
        near = np.flatnonzero(np.isclose(self.thresholds, threshold))
        if not len(near):
            raise ValueError(f"nothing was measured at IoU {threshold}")
        return int(near[0])


def measure_detections(
    truths: Sequence[PictureTruth],
    detections: Sequence[PictureDetections],
    class_ids: Sequence[int],
    thresholds: ArrayLike,
    areas: Areas = ALL,
    limits: Sequence[int] = (100,),
    points: int = RECALL_POINTS,
) -> Measurement:
    """Measure by the published COCO rules (Lin et al., 2014).

    Of each class and picture the best detections are looked at, as many as the greatest limit.
    For an area range, truths whose area (see `avocet.core.detections.PictureTruth`) lies outside of it are ignored, and so are detections outside of it that
    hit nothing.

    Parameters
    ----------
    truths, detections : sequence
        One entry a picture, in the same order.
    class_ids : sequence of int
    thresholds : (T,) array_like
        IoU thresholds.
    areas : mapping of str to (float, float)
        Least and greatest box area in square pixels, by name.
    limits : sequence of int
        Rising.
    points : int
        Evenly spaced recalls at which precision is read, by default 0, 0.01, …, 1; 0 takes the exact
        area under the envelope. See `avocet.core.score.recalls`.

    Returns
    -------
    Measurement

    Raises
    ------
    ValueError
        If there are not as many pictures of truths as of detections.

    Examples
    --------
    >>> truth = PictureTruth(boxes=[[0, 0, 10, 10], [50, 50, 60, 60]], classes=[3, 3])
    >>> found = PictureDetections(boxes=[[0, 0, 10, 8]], scores=[0.9], classes=[3])
    >>> measured = measure_detections([truth], [found], [3], [0.5, 0.75, 0.9])
    >>> measured.hits[:, 0, 0], measured.recall[:, 0, 0, 0]
    (array([1, 1, 0]), array([0.5, 0.5, 0. ]))
    """
    limits = tuple(limits)
    matched = match_pictures(truths, detections, class_ids, thresholds, areas, max(limits))
    return sum_up(matched, limits, points)


@dataclass(frozen=True)
class MatchedPictures:
    """Detections and truths of all pictures in one list, matched.

    Detections are in order of class, then of falling score.

    Attributes
    ----------
    thresholds : (T,) ndarray of float64
    class_ids : (K,) ndarray of int64
    areas : tuple of str
    pictures : int
    kind, picture, rank : (D,) ndarray of int64
        Place of the detection's class in ``class_ids``, its picture, its place in the two.
    scores : (D,) ndarray of float64
    hit, skipped : (T, A, D) ndarray of bool
        Detections that found a truth that counts, and those that are neither hit nor false alarm.
    truth_kind, truth_picture : (G,) ndarray of int64
    counted : (A, G) ndarray of bool
        Truths that count.
    """

    thresholds: Array
    class_ids: NDArray[np.int64]
    areas: tuple[str, ...]
    pictures: int
    kind: NDArray[np.int64]
    picture: NDArray[np.int64]
    rank: NDArray[np.int64]
    scores: Array
    hit: NDArray[np.bool_]
    skipped: NDArray[np.bool_]
    truth_kind: NDArray[np.int64]
    truth_picture: NDArray[np.int64]
    counted: NDArray[np.bool_]

    def of_class(self, number: int) -> slice:
        """Where the detections of a class lie."""
        start, stop = np.searchsorted(self.kind, [number, number + 1])
        return slice(int(start), int(stop))


def match_pictures(
    truths: Sequence[PictureTruth],
    detections: Sequence[PictureDetections],
    class_ids: Sequence[int],
    thresholds: ArrayLike,
    areas: Areas = ALL,
    most_detections: int = 100,
) -> MatchedPictures:
    """Match all detections with all truths, as `measure_detections` does before it counts.

    Parameters
    ----------
    truths, detections : sequence
        One entry a picture, in the same order.
    class_ids : sequence of int
    thresholds : (T,) array_like
    areas : mapping of str to (float, float)
    most_detections : int
        Looked at in one class and picture.

    Returns
    -------
    MatchedPictures

    Raises
    ------
    ValueError
        If there are not as many pictures of truths as of detections.
    """
    if len(truths) != len(detections):
        raise ValueError(f"{len(truths)} pictures of truths, but {len(detections)} of detections")
    levels = np.asarray(thresholds, dtype=np.float64).reshape(-1)
    ids = np.asarray(class_ids, dtype=np.int64).reshape(-1)
    bounds = np.array(list(areas.values()), dtype=np.float64)
    real, mine = flatten(truths, ids), flatten(detections, ids)
    rank = rank_in_group(mine.group, mine.scores)
    # In order of falling score within each class; of equal scores the earlier picture comes first.
    order = np.lexsort((rank, mine.group, -mine.scores, mine.kind))
    order = order[rank[order] < most_detections]
    mine, rank = mine.some(order), rank[order]

    low, high = bounds[:, :1], bounds[:, 1:]
    ignored = real.flags | (real.areas < low) | (real.areas > high)
    outside = (mine.areas < low) | (mine.areas > high)
    taken = match_all(mine.boxes, mine.group, rank, real.boxes, real.group, ignored, real.crowd, levels).truth
    hit = taken >= 0
    # The column at the end answers for detections that hit nothing.
    padded = np.concatenate([ignored, np.zeros((len(bounds), 1), bool)], axis=1)
    skipped = np.where(hit, padded[np.arange(len(bounds))[None, :, None], taken], outside[None])
    return MatchedPictures(
        levels, ids, tuple(areas), len(truths), mine.kind, mine.owner, rank, mine.scores,
        hit & ~skipped, skipped, real.kind, real.owner, ~ignored,
    )  # fmt: skip


def sum_up(
    matched: MatchedPictures, limits: Sequence[int] = (100,), points: int = RECALL_POINTS
) -> Measurement:
    """Precision and recall of matched pictures; see `measure_detections`."""
    shape = (len(matched.thresholds), len(matched.class_ids), len(matched.areas))
    precision = np.full(shape, np.nan)
    recall = np.full((*shape, len(limits)), np.nan)
    hits, false_alarms = np.zeros(shape, np.int64), np.zeros(shape, np.int64)
    counts = np.zeros(shape[1:], np.int64)
    for number in range(shape[1]):
        part = matched.of_class(number)
        counts[number] = matched.counted[:, matched.truth_kind == number].sum(axis=1)
        found = matched.hit[:, :, part]
        lost = ~found & ~matched.skipped[:, :, part]
        hits[:, number], false_alarms[:, number] = found.sum(axis=2), lost.sum(axis=2)
        known = counts[number] > 0
        if not known.any():
            continue
        own = counts[number][known]
        precision[:, number, known] = _average_precision(found[:, known], lost[:, known], own, points)
        for column, limit in enumerate(limits):
            within = found[:, :, matched.rank[part] < limit].sum(axis=2)
            recall[:, number, known, column] = within[:, known] / own
    seen = np.bincount(matched.kind, minlength=shape[1])
    return Measurement(
        matched.thresholds, matched.class_ids, matched.areas, tuple(limits),
        precision, recall, counts, seen, hits, false_alarms,
    )  # fmt: skip


def _average_precision(
    found: NDArray[np.bool_], lost: NDArray[np.bool_], truths: NDArray[np.int64], points: int
) -> Array:
    """(T, A) average precisions of (T, A, D) hits and false alarms in order of falling score."""
    made = np.zeros(found.shape[:2])
    seen = np.cumsum(found | lost, axis=2, dtype=np.float64)
    for level, span in np.argwhere(found.any(axis=2)).tolist():
        at_hits = seen[level, span, found[level, span], None]
        right = np.arange(1.0, len(at_hits) + 1)[:, None]
        made[level, span] = precision_over_recalls(right, at_hits, truths[[span]].astype(float), points)[0]
    return made


def _mean(values: Array) -> float:
    known = values[~np.isnan(values)]
    return float(known.mean()) if len(known) else float("nan")
