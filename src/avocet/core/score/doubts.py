"""Labels that a detector gives reason to doubt: likely labelling mistakes, most likely first."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from avocet.core.boxes import Array, iou
from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.score.mistakes import BACKGROUND_IOU

DoubtKind = Literal["unlabelled", "other class", "badly placed", "background"]

SURE_SCORE = 0.5
"""Predictions below this score are no reason to doubt a label."""

WRONG_LABELS = 0.02
"""Share of labels taken to be wrong before a detector has looked at them."""


@dataclass(frozen=True)
class Doubt:
    """One label, or one missing, that the detector disagrees with.

    Attributes
    ----------
    kind : str
        'unlabelled': predicted, but not labelled; 'other class': labelled as another class;
        'badly placed': labelled elsewhere; 'background': labelled, but nothing is predicted.
    picture : int
    truth, detection : int
        In the picture, or -1.
    likelihood : float
        From 0 to 1.
    """

    kind: DoubtKind
    picture: int
    truth: int
    detection: int
    likelihood: float


def doubt_labels(
    truths: Sequence[PictureTruth],
    detections: Sequence[PictureDetections],
    classes: int,
    threshold: float = 0.5,
) -> list[Doubt]:
    """Where a detector and the labels disagree, the likeliest mistakes of the labels first.

    A prediction is believed as far as its score goes, times the share of right ones among the
    sure predictions of its class. Where nothing is predicted at a label, either the label is wrong
    or the detector has missed an object, as it does with some share of that class; Bayes' rule
    weighs the two, with `WRONG_LABELS` as the share of wrong labels to begin with.

    Parameters
    ----------
    truths, detections : sequence
        One entry a picture, in the same order; detections down to a low score.
    classes : int
    threshold : float
        IoU from which a prediction and a label mean the same.

    Returns
    -------
    list of Doubt

    Raises
    ------
    ValueError
        If there are not as many pictures of truths as of detections.

    Examples
    --------
    Two rolls are found where the labels have one:

    >>> truth = PictureTruth(boxes=[[0, 0, 10, 10]], classes=[0])
    >>> found = PictureDetections(boxes=[[0, 0, 10, 10], [50, 0, 60, 10]], scores=[0.9, 0.8], classes=[0, 0])
    >>> [(doubt.kind, doubt.detection) for doubt in doubt_labels([truth], [found], classes=1)]
    [('unlabelled', 1)]
    """
    if len(truths) != len(detections):
        raise ValueError(f"{len(truths)} pictures of truths, but {len(detections)} of detections")
    views = [_View(truth, found, threshold) for truth, found in zip(truths, detections, strict=True)]
    precision, recall = _trust(views, classes)
    doubts = [
        doubt
        for picture, view in enumerate(views)
        for doubt in _doubts_of(view, picture, precision, recall, threshold)
    ]
    return sorted(doubts, key=lambda doubt: -doubt.likelihood)


class _View:
    """One picture: which sure predictions and labels agree."""

    def __init__(self, truth: PictureTruth, found: PictureDetections, threshold: float) -> None:
        self.truth, self.found = truth, found
        self.left_out = truth.ignored | truth.crowd
        self.overlaps = iou(found.boxes, truth.boxes, crowd=truth.crowd)
        self.same = found.classes[:, None] == truth.classes[None, :]
        self.sure = found.scores >= SURE_SCORE
        self.agree = self.same & (self.overlaps >= threshold)
        support = np.where(self.agree, found.scores[:, None], 0.0)
        self.support = support.max(axis=0) if len(found.scores) else np.zeros(len(truth.boxes))


def _trust(views: Sequence[_View], classes: int) -> tuple[Array, Array]:
    """Precision and recall of the sure predictions by class, a little towards one half."""
    right, said = np.ones(classes), np.full(classes, 2.0)
    found, asked = np.ones(classes), np.full(classes, 2.0)
    for view in views:
        sure = view.found.classes[view.sure]
        np.add.at(said, sure, 1)
        np.add.at(right, sure, view.agree[view.sure].any(axis=1))
        labels = view.truth.classes[~view.left_out]
        np.add.at(asked, labels, 1)
        np.add.at(found, labels, view.support[~view.left_out] >= SURE_SCORE)
    return np.minimum(1, right / said), np.minimum(1, found / asked)


def _doubts_of(view: _View, picture: int, precision: Array, recall: Array, threshold: float) -> list[Doubt]:
    doubts: list[Doubt] = []
    explained = view.left_out | (view.support >= SURE_SCORE)
    for number in np.argsort(-view.found.scores, kind="stable").tolist():
        if not view.sure[number]:
            break
        overlaps = view.overlaps[number]
        if view.agree[number].any() or (view.left_out & (overlaps >= threshold)).any():
            continue
        trust = float(view.found.scores[number] * precision[view.found.classes[number]])
        open_labels = np.where(explained, 0.0, overlaps)
        near = int(open_labels.argmax()) if len(open_labels) else -1
        if near >= 0 and open_labels[near] >= threshold and not view.same[number, near]:
            doubts.append(
                Doubt("other class", picture, near, number, trust * (1 - float(view.support[near])))
            )
            explained[near] = True
        elif near >= 0 and open_labels[near] >= BACKGROUND_IOU and view.same[number, near]:
            doubts.append(
                Doubt("badly placed", picture, near, number, trust * (1 - float(open_labels[near])))
            )
            explained[near] = True
        elif not len(overlaps) or overlaps.max() < threshold:
            clear = 1 - float(overlaps.max(initial=0.0))
            doubts.append(Doubt("unlabelled", picture, -1, number, trust * clear))
    for number in np.flatnonzero(~explained).tolist():
        missed = (1 - WRONG_LABELS) * (1 - float(recall[view.truth.classes[number]]))
        belief = WRONG_LABELS / (WRONG_LABELS + missed) * (1 - float(view.support[number]))
        doubts.append(Doubt("background", picture, number, -1, belief))
    return doubts
