"""What a finished evaluation says beyond its figures: who is taken for whom, which minimum score to use."""

from dataclasses import dataclass

import numpy as np

from avocet.core.boxes import Array
from avocet.core.detections import PictureDetections
from avocet.core.raw.candidates import EVERY_SCORE
from avocet.core.score.calibration import CALIBRATED_SCORE, Reliability, reliability, reliability_before
from avocet.core.score.confusion import Confusion, confusion
from avocet.core.score.measurement import match_pictures, sum_up
from avocet.core.score.mistakes import KINDS, Mistakes, find_mistakes
from avocet.core.score.operating import OperatingCurve, Wish, choose_score, operating_curve
from avocet.work.judge.opened import Measured

Corners = tuple[float, float, float, float]

MOST_POINTS = 400
"""Points of a curve that are drawn."""


@dataclass(frozen=True)
class ConfusedBox:
    """A box behind a cell: the prediction, or the truth where nothing was predicted; and the truth that it is about."""

    picture_id: int
    name: str
    corners: Corners
    score: float | None
    truth: Corners | None


@dataclass(frozen=True)
class PrecisionRecall:
    """A class at one IoU: its curve, and where the minimum score lies on it.

    ``curve`` has recall, precision and score; ``point`` recall and precision.
    """

    name: str
    iou: float
    average_precision: float | None
    curve: list[tuple[float, float, float]]
    point: tuple[float, float] | None


@dataclass(frozen=True)
class MistakeKind:
    """A kind of error: how many above the minimum score, and the mAP that mending all of them would bring."""

    number: int
    name: str
    count: int
    gain: float | None


@dataclass(frozen=True)
class MistakenBox(ConfusedBox):
    """A box that was wrong: what it was predicted as, what it is, and their IoU."""

    kind: str
    predicted: str | None
    true: str | None
    overlap: float


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
        corners = found[index].boxes[detection] if predicted else measured.truths[index].boxes[truth]
        score = float(found[index].scores[detection]) if predicted else None
        real = _corners(measured.truths[index].boxes[truth]) if truth >= 0 else None
        boxes.append(ConfusedBox(picture.id, picture.name, _corners(corners), score, real))
    return sorted(boxes, key=lambda each: -(each.score or 0))


def chosen_scores(
    measured: Measured,
    overlap_limit: float,
    wish: Wish,
    amount: float = 0.95,
    miss_price: float = 1,
    alarm_price: float = 1,
) -> list[ClassOperating]:
    """The minimum score of each class that a wish asks for; see `avocet.core.score.operating.choose_score`."""
    chosen = []
    for name, curve in zip(measured.classes, _curves(measured, overlap_limit), strict=True):
        score = choose_score(curve, wish, amount, miss_price, alarm_price)
        figures: list[float | None] = [None] * 3
        if score is not None:
            place = int(np.flatnonzero(curve.scores == score)[0])
            figures = [float(each[place]) for each in (curve.precision, curve.recall, curve.f1)]
        chosen.append(
            ClassOperating(name, curve.truths, score, figures[0], figures[1], figures[2], _points(curve))
        )
    return chosen


def curves_of(
    measured: Measured, minimum_score: float, overlap_limit: float, ious: tuple[float, ...]
) -> list[PrecisionRecall]:
    """Precision-recall curves by class and IoU."""
    numbers = range(len(measured.classes))
    found = measured.found(EVERY_SCORE, overlap_limit)
    matched = match_pictures(measured.truths, found, numbers, ious)
    precisions = sum_up(matched).average_precision[:, :, 0]
    curves = []
    for number, name in enumerate(measured.classes):
        part = matched.of_class(number)
        truths = int((matched.counted[0] & (matched.truth_kind == number)).sum())
        for level, threshold in enumerate(ious):
            counts = ~matched.skipped[level, 0, part]
            curve = operating_curve(matched.scores[part][counts], matched.hit[level, 0, part][counts], truths)
            above = np.flatnonzero(curve.scores >= minimum_score)
            point = (
                (float(curve.recall[above[-1]]), float(curve.precision[above[-1]])) if len(above) else None
            )
            value = float(precisions[level, number])
            points = [(r, p, s) for s, p, r in _points(curve)]
            curves.append(PrecisionRecall(name, threshold, None if np.isnan(value) else value, points, point))
    return curves


def calibration_of(
    measured: Measured, overlap_limit: float, class_index: int | None = None
) -> tuple[Reliability, Reliability | None]:
    """How often a score is right, of one class or of all; and how often it was before it was calibrated."""
    matched = measured.matched(overlap_limit)
    counted = ~matched.skipped[0, 0]
    if class_index is not None:
        counted &= matched.kind == class_index
    scores, hits = matched.scores[counted].clip(0, 1), matched.hit[0, 0][counted]
    used = scores >= CALIBRATED_SCORE
    now = reliability(scores[used], hits[used])
    if measured.calibrated is None:
        return now, None
    return now, reliability_before(scores, hits, measured.calibrated)


def mistakes_of(measured: Measured, minimum_score: float, overlap_limit: float) -> list[MistakeKind]:
    """Each kind of error above a score, and what mending those very errors would bring; the most first."""
    shown = _mistakes(measured, minimum_score, overlap_limit)
    kinds = [
        MistakeKind(
            number,
            name,
            int((shown.kind == number).sum()),
            None if np.isnan(shown.gains[number]) else float(shown.gains[number]),
        )
        for number, name in enumerate(KINDS)
    ]
    return sorted(kinds, key=lambda each: (-(each.gain or 0), -each.count))


def _mistakes(measured: Measured, minimum_score: float, overlap_limit: float) -> Mistakes:
    return find_mistakes(
        measured.truths,
        measured.found(minimum_score, overlap_limit),
        len(measured.classes),
        candidates=measured.candidates,
        minimum_score=minimum_score,
    )


def mistaken_boxes(
    measured: Measured, minimum_score: float, overlap_limit: float, kind: int
) -> list[MistakenBox]:
    """The errors of one kind above a score, the surest first."""
    found = measured.found(minimum_score, overlap_limit)
    made = _mistakes(measured, minimum_score, overlap_limit)
    boxes = []
    for entry in np.flatnonzero(made.kind == kind):
        index, number, about = (int(each[entry]) for each in (made.picture, made.detection, made.truth))
        picture, truth = measured.pictures[index], measured.truths[index]
        predicted = number >= 0
        corners = found[index].boxes[number] if predicted else truth.boxes[about]
        boxes.append(
            MistakenBox(
                picture.id, picture.name, _corners(corners),
                float(found[index].scores[number]) if predicted else None,
                _corners(truth.boxes[about]) if about >= 0 else None,
                KINDS[kind],
                measured.classes[found[index].classes[number]] if predicted else None,
                measured.classes[truth.classes[about]] if about >= 0 else None,
                float(made.overlap[entry]),
            )
        )  # fmt: skip
    return sorted(boxes, key=lambda each: -(each.score or 0))


def _corners(box: Array) -> Corners:
    x1, y1, x2, y2 = (float(value) for value in box)
    return x1, y1, x2, y2


def _confusion(measured: Measured, found: list[PictureDetections], iou: float) -> Confusion:
    return confusion(measured.truths, found, len(measured.classes), iou)


def _curves(measured: Measured, overlap_limit: float) -> list[OperatingCurve]:
    """Hits and false alarms of each class at every minimum score."""
    matched = measured.matched(overlap_limit)
    curves = []
    for number in range(len(measured.classes)):
        part = matched.of_class(number)
        counts = ~matched.skipped[0, 0, part]
        truths = int((matched.counted[0] & (matched.truth_kind == number)).sum())
        curves.append(operating_curve(matched.scores[part][counts], matched.hit[0, 0, part][counts], truths))
    return curves


def _points(curve: OperatingCurve) -> list[tuple[float, float, float]]:
    """Points to draw: every hit and the false alarm before it, fewer where they are very many."""
    if not len(curve.scores):
        return []
    hit = np.diff(curve.hits, prepend=0) > 0
    corners = np.flatnonzero(hit | np.append(hit[1:], True))
    some = corners[np.unique(np.linspace(0, len(corners) - 1, MOST_POINTS).astype(int))]
    columns = (curve.scores[some], curve.precision[some], curve.recall[some])
    return [(float(s), float(p), float(r)) for s, p, r in zip(*columns, strict=True)]
