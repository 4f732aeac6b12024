"""Measuring a model on pictures with known truths: the report behind Judge and `avocet evaluate`."""

import math
import time
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.raw.candidates import MEASURING_SCORE, MINIMUM_SCORE, OVERLAP_LIMIT, Candidates
from avocet.core.score.calibration import CALIBRATED_SCORE, ScoreMap, reliability, reliability_before
from avocet.core.score.chance.resampling import RESAMPLES, Resampled, resample
from avocet.core.score.measurement import AREA_BOUNDS, area_ranges, match_pictures, measure_detections, sum_up
from avocet.core.score.mistakes import KINDS, find_mistakes
from avocet.core.score.precision import COCO_THRESHOLDS, INTERPOLATIONS
from avocet.detector.model.finder import Finder
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.work.progress import Reporter, Stopped
from avocet.work.use.running.pipeline import Pipeline, Stage

BATCH = 8
TIMED = 12
"""Pictures whose time is taken one by one."""

LIMITS = (1, 10, 100)
"""Detections of a class in a picture at which recall is told."""

RESAMPLING_SEED = 0
"""The same for all models, so that each resample draws the same pictures for all."""


def find_candidates(
    predictor: Finder, pictures: Sequence[LabelledPicture], reporter: Reporter, at_once: int = 1
) -> list[Candidates]:
    """Candidates of every picture, down to the score at which precision is measured.

    Pictures are read while others are looked at; a model on several machines is asked ``at_once``.

    Raises
    ------
    Stopped
        If a person asked to stop.
    """
    found: list[Candidates] = []
    network = Stage("network", lambda batch: predictor.candidates(batch, MEASURING_SCORE), at_once)
    running = Pipeline("reading", [network]).run(_batches([picture.read for picture in pictures]))
    try:
        for some in running:
            if reporter.should_stop():
                raise Stopped
            found += some
            reporter.progress(len(found), len(pictures), f"{len(found)} of {len(pictures)} pictures")
    finally:
        running.close()
    return found


def measure(
    class_names: Sequence[str],
    truths: Sequence[PictureTruth],
    candidates: Sequence[Candidates],
    overlap_limit: float = OVERLAP_LIMIT,
    interpolation: str = "101-point",
    area_bounds: Sequence[float] = AREA_BOUNDS,
    minimum_score: float = MINIMUM_SCORE,
    calibrated: ScoreMap | None = None,
    lowest_score: float = MEASURING_SCORE,
) -> dict[str, Any]:
    """mAP, AP by class and by size, recall and how sure they are, by the COCO rules.

    Parameters
    ----------
    class_names : sequence of str
        Classes of the truths and, by index, of the candidates.
    truths, candidates : sequence
        One entry a picture, in the same order.
    overlap_limit : float
    interpolation : str
        One of `avocet.core.score.precision.INTERPOLATIONS`. Intervals are of the 101-point rule, which
        is the only one that is resampled, so other rules have none.
    area_bounds : sequence of float
        Sides of a square in pixels that part small, medium and large objects.
    minimum_score : float
        From which boxes are counted as flawless or as errors.
    calibrated : ScoreMap, optional
        What the scores have been through.
    lowest_score : float
        Down to which candidates were kept: other programs keep what they like.

    Returns
    -------
    dict
        ``map50``, ``map75``, ``map``, their 95 % intervals over resampled pictures (None where too
        few pictures have a truth), ``sizes`` (mAP of small, medium and large objects), ``recall`` (AR at 1, 10 and 100), ``classes``
        (name to figures and the counts behind them at IoU 0.5), ``pictures`` and how many of them
        are ``flawless``, ``mistakes`` (count above the minimum score and gain by kind),
        ``calibration_error`` and what it was before scores were calibrated. A figure is None where there is no truth to find.
    """
    detections: list[PictureDetections] = [
        each.after_suppression(lowest_score, overlap_limit) for each in candidates
    ]
    numbers = range(len(class_names))
    areas = area_ranges(area_bounds)
    matched = match_pictures(truths, detections, numbers, COCO_THRESHOLDS, areas, max(LIMITS))
    measured = sum_up(matched, LIMITS, INTERPOLATIONS[interpolation])
    resamples = RESAMPLES if interpolation == "101-point" else 0
    by_size = [
        resample(matched, np.random.default_rng(RESAMPLING_SEED), resamples, span)
        for span in range(len(areas))
    ]
    resampled = by_size[0]
    scores, hits = matched.scores.clip(0, 1), matched.hit[0, 0]
    counted = ~matched.skipped[0, 0]
    used = counted & (scores >= CALIBRATED_SCORE)
    classes = {}
    for index, name in enumerate(class_names):
        values = measured.average_precision[:, index, 0]
        classes[name] = {
            "ap50": _number(values[0]),
            "ap": _number(values.mean()),
            "ap50_interval": _interval(resampled, 0, index),
            "ap_interval": _interval(resampled, None, index),
            "truths": int(measured.truths[index, 0]),
            "detections": int(measured.detections[index]),
            "hits": int(measured.hits[0, index, 0]),
            "false_alarms": int(measured.false_alarms[0, index, 0]),
            "sizes": {
                size: {
                    "ap": _number(measured.average_precision[:, index, number].mean()),
                    "interval": _interval(by_size[number], None, index),
                    "truths": int(measured.truths[index, number]),
                }
                for number, size in enumerate(measured.areas)
                if number
            },
            "misses": int(measured.truths[index, 0] - measured.hits[0, index, 0]),
        }
    return {
        "map50": _number(measured.mean(0.5)),
        "map75": _number(measured.mean(0.75)),
        "map": _number(measured.mean()),
        "map50_interval": _interval(resampled, 0),
        "map_interval": _interval(resampled),
        "sizes": {
            size: {
                "map": _number(measured.mean(None, size)),
                "interval": _interval(by_size[number]),
                "truths": int(measured.truths[:, number].sum()),
            }
            for number, size in enumerate(measured.areas)
            if number
        },
        "recall": {str(limit): _number(measured.mean_recall(limit)) for limit in LIMITS},
        "classes": classes,
        "pictures": len(truths),
        "flawless": _flawless(truths, candidates, minimum_score, overlap_limit),
        "mistakes": _mistakes(truths, candidates, len(class_names), minimum_score, overlap_limit),
        "minimum_score": minimum_score,
        "calibration_error": _number(reliability(scores[used], hits[used]).expected_error),
        "calibration_error_before": None
        if calibrated is None
        else _number(reliability_before(scores[counted], hits[counted], calibrated).expected_error),
        "interpolation": interpolation,
        "area_bounds": [float(side) for side in area_bounds],
        "resamples": resamples,
        "overlap_limit": overlap_limit,
        "lowest_score": lowest_score,
    }


def _flawless(
    truths: Sequence[PictureTruth],
    candidates: Sequence[Candidates],
    minimum_score: float,
    overlap_limit: float,
) -> int:
    """Pictures in which everything is found above the minimum score, and nothing else."""
    count = 0
    for truth, each in zip(truths, candidates, strict=True):
        found = each.after_suppression(minimum_score, overlap_limit)
        kinds = np.unique(np.concatenate([truth.classes, found.classes]))
        summed = measure_detections([truth], [found], kinds.tolist(), [0.5])
        count += bool((summed.hits[0, :, 0] == summed.truths[:, 0]).all() and not summed.false_alarms.any())
    return count


def _mistakes(
    truths: Sequence[PictureTruth],
    candidates: Sequence[Candidates],
    classes: int,
    minimum_score: float,
    overlap_limit: float,
) -> dict[str, dict[str, Any]]:
    """By kind of error: how many above the minimum score, and the gain of mending those."""
    shown = [each.after_suppression(minimum_score, overlap_limit) for each in candidates]
    before = [PictureDetections(each.boxes, each.scores, each.classes) for each in candidates]
    made = find_mistakes(truths, shown, classes, candidates=before, minimum_score=minimum_score)
    return {
        name: {"count": int((made.kind == number).sum()), "gain": _number(made.gains[number])}
        for number, name in enumerate(KINDS)
    }


def milliseconds(predictor: Finder, pictures: Sequence[LabelledPicture]) -> float | None:
    """Time of one picture by itself, from pixels to boxes: the median of some, after a warm-up."""
    if not pictures:
        return None
    some = [picture.read() for picture in pictures[:TIMED]]
    predictor.candidates(some[:1], MINIMUM_SCORE)
    times = []
    for pixels in some:
        started = time.perf_counter()
        predictor.candidates([pixels], MINIMUM_SCORE)[0].after_suppression(MINIMUM_SCORE, OVERLAP_LIMIT)
        times.append(time.perf_counter() - started)
    return 1000 * float(np.median(times))


def _interval(drawn: Resampled, level: int | None = None, kind: int | None = None) -> list[float] | None:
    """None also where there are too few pictures to tell."""
    low, high = drawn.interval(level, kind)
    return None if math.isnan(low) else [low, high]


def by_name(
    candidates: Sequence[Candidates], model_classes: Sequence[str], class_names: Sequence[str]
) -> list[Candidates]:
    """Renumber the candidates' classes to those of the truths, by name; others are left out.

    Examples
    --------
    >>> found = Candidates(np.array([[0, 0, 1, 1], [0, 0, 2, 2]]), np.array([0.9, 0.8]), np.array([1, 0]))
    >>> by_name([found], ["ring", "roll"], ["roll"])[0].classes
    array([0])
    """
    number = np.array([class_names.index(name) if name in class_names else -1 for name in model_classes])
    renamed = []
    for each in candidates:
        classes = number[each.classes]
        known = classes >= 0
        renamed.append(Candidates(each.boxes[known], each.scores[known], classes[known]))
    return renamed


def _batches(readers: Sequence[Callable[[], NDArray[np.uint8]]]) -> Iterator[list[NDArray[np.uint8]]]:
    for start in range(0, len(readers), BATCH):
        yield [read() for read in readers[start : start + BATCH]]


def _number(value: float) -> float | None:
    return None if math.isnan(value) else float(value)
