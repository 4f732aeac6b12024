"""What a finished evaluation says beyond its figures: who is taken for whom, which minimum score to use."""

from dataclasses import dataclass

import numpy as np

from avocet.core.confusion import Confusion, confusion
from avocet.core.detections import PictureDetections
from avocet.core.measurement import match_pictures
from avocet.core.operating import OperatingCurve, Wish, choose_score, operating_curve
from avocet.work.evaluations import MATCHING_IOU, Measured

LOWEST_SCORE = 0.005
"""The lowest score that is looked at, as when measuring."""

MOST_POINTS = 200
"""Points of a curve that are drawn."""


@dataclass(frozen=True)
class ConfusedBox:
    """A box behind a cell: the prediction, or the truth where nothing was predicted."""

    picture_id: int
    name: str
    corners: tuple[float, float, float, float]
    score: float | None


@dataclass(frozen=True)
class ClassOperating:
    """A class at the minimum score that was asked for, and the curve that it lies on.

    ``curve`` has minimum score, precision and recall. Where no minimum score does what was
    asked for, ``score`` and the figures are None.
    """

    name: str
    truths: int
    score: float | None
    precision: float | None
    recall: float | None
    f1: float | None
    curve: list[tuple[float, float, float]]


def confusion_of(measured: Measured, minimum_score: float, overlap_limit: float, iou: float) -> Confusion:
    """Who was taken for whom."""
    return _confusion(measured, measured.found(minimum_score, overlap_limit), iou)


def confused_boxes(
    measured: Measured, minimum_score: float, overlap_limit: float, iou: float, row: int, column: int
) -> list[ConfusedBox]:
    """The boxes behind one cell of the confusion matrix, the surest first."""
    found = measured.found(minimum_score, overlap_limit)
    made = _confusion(measured, found, iou)
    boxes = []
    for number in np.flatnonzero((made.row == row) & (made.column == column)):
        index, truth, detection = (int(each[number]) for each in (made.picture, made.truth, made.detection))
        picture = measured.pictures[index]
        predicted = detection >= 0
        corners = found[index].boxes[detection] if predicted else picture.boxes[truth][1:5]
        score = float(found[index].scores[detection]) if predicted else None
        x1, y1, x2, y2 = (float(value) for value in corners)
        boxes.append(ConfusedBox(picture.id, picture.name, (x1, y1, x2, y2), score))
    return sorted(boxes, key=lambda each: -(each.score or 0))


def chosen_scores(
    measured: Measured,
    overlap_limit: float,
    wish: Wish,
    amount: float = 0.95,
    miss_price: float = 1,
    alarm_price: float = 1,
) -> list[ClassOperating]:
    """The minimum score of each class that a wish asks for; see `avocet.core.operating.choose_score`."""
    chosen = []
    for name, curve in zip(measured.frozen.classes, _curves(measured, overlap_limit), strict=True):
        score = choose_score(curve, wish, amount, miss_price, alarm_price)
        figures: list[float | None] = [None] * 3
        if score is not None:
            place = int(np.flatnonzero(curve.scores == score)[0])
            figures = [float(each[place]) for each in (curve.precision, curve.recall, curve.f1)]
        chosen.append(
            ClassOperating(name, curve.truths, score, figures[0], figures[1], figures[2], _points(curve))
        )
    return chosen


def _confusion(measured: Measured, found: list[PictureDetections], iou: float) -> Confusion:
    return confusion(measured.truths, found, len(measured.frozen.classes), iou)


def _curves(measured: Measured, overlap_limit: float) -> list[OperatingCurve]:
    """Hits and false alarms of each class at every minimum score."""
    numbers = range(len(measured.frozen.classes))
    found = measured.found(LOWEST_SCORE, overlap_limit)
    matched = match_pictures(measured.truths, found, numbers, [MATCHING_IOU])
    curves = []
    for number in numbers:
        part = matched.of_class(number)
        counts = ~matched.skipped[0, 0, part]
        truths = int((matched.counted[0] & (matched.truth_kind == number)).sum())
        curves.append(operating_curve(matched.scores[part][counts], matched.hit[0, 0, part][counts], truths))
    return curves


def _points(curve: OperatingCurve) -> list[tuple[float, float, float]]:
    if not len(curve.scores):
        return []
    some = np.unique(np.linspace(0, len(curve.scores) - 1, MOST_POINTS).astype(int))
    columns = (curve.scores[some], curve.precision[some], curve.recall[some])
    return [(float(s), float(p), float(r)) for s, p, r in zip(*columns, strict=True)]
