"""Measuring a model on pictures with known truths: the report behind Judge and `avocet evaluate`."""

import math
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.candidates import Candidates
from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.precision import evaluate
from avocet.detector.labelled import LabelledPicture
from avocet.detector.predictor import MEASURING_SCORE, OVERLAP_LIMIT, Predictor
from avocet.work.progress import Reporter, Stopped

BATCH = 8


def find_candidates(
    predictor: Predictor, pictures: Sequence[LabelledPicture], reporter: Reporter
) -> list[Candidates]:
    """Candidates of every picture, down to the score at which precision is measured.

    Raises
    ------
    Stopped
        If a person asked to stop.
    """
    found: list[Candidates] = []
    for batch in _batches([picture.read for picture in pictures]):
        if reporter.should_stop():
            raise Stopped
        found += predictor.candidates(batch, MEASURING_SCORE)
        reporter.progress(len(found), len(pictures), f"{len(found)} of {len(pictures)} pictures")
    return found


def measure(
    class_names: Sequence[str],
    pictures: Sequence[LabelledPicture],
    candidates: Sequence[Candidates],
    overlap_limit: float = OVERLAP_LIMIT,
) -> dict[str, Any]:
    """mAP and AP by class, by the COCO rules.

    Parameters
    ----------
    class_names : sequence of str
        Classes of the truths and, by index, of the candidates.
    pictures : sequence of LabelledPicture
    candidates : sequence of Candidates
    overlap_limit : float

    Returns
    -------
    dict
        ``map50``, ``map``, ``classes`` (name to ``ap50``, ``ap``, ``truths``, ``detections``)
        and ``pictures``. An average precision is None where there is no truth to find.
    """
    truths = [PictureTruth(picture.boxes, picture.classes, picture.ignored) for picture in pictures]
    detections: list[PictureDetections] = [
        each.after_suppression(MEASURING_SCORE, overlap_limit) for each in candidates
    ]
    measured = evaluate(truths, detections, range(len(class_names)))
    classes = {}
    for index, name in enumerate(class_names):
        entry = measured.classes[index]
        values = entry.average_precision
        classes[name] = {
            "ap50": _number(values[0]),
            "ap": _number(values.mean()),
            "truths": entry.truths,
            "detections": entry.detections,
        }
    return {
        "map50": _number(measured.mean(0.5)),
        "map": _number(measured.mean()),
        "classes": classes,
        "pictures": len(pictures),
        "overlap_limit": overlap_limit,
        "lowest_score": MEASURING_SCORE,
    }


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
