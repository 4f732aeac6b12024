"""Several detectors that answer as one."""

import numpy as np
import pytest

from avocet.core.detections import told_score
from avocet.core.raw.candidates import MEASURING_SCORE, Candidates
from avocet.detector.model.ensemble import EnsemblePredictor
from avocet.work.use.running.looking import Looker
from avocet.work.use.running.order import DetectionOrder


class Said:
    """Finds the same in every picture."""

    def __init__(self, classes, boxes, scores, labels):
        self.classes, self.about = classes, {"classes": classes}
        self._found = Candidates(np.array(boxes, float), np.array(scores, float), np.array(labels))

    def candidates(self, pictures, minimum_score):
        return [self._found for _ in pictures]


ONE = Said(["roll", "ring"], [[0, 0, 10, 10], [50, 0, 60, 10]], [0.8, 0.4], [0, 1])
TWO = Said(["ring", "loaf"], [[50, 0, 60, 12], [80, 0, 90, 10]], [0.6, 0.5], [0, 1])
PICTURE = np.zeros((20, 100, 3), np.uint8)


def test_classes_are_matched_by_name_and_boxes_fused():
    both = EnsemblePredictor([ONE, TWO], [1, 1])
    assert both.classes == ["roll", "ring", "loaf"] and len(both.about["members"]) == 2
    found = both.candidates([PICTURE, PICTURE], 0.1)
    assert len(found) == 2
    assert [both.classes[label] for label in found[0].classes] == ["ring", "roll", "loaf"]
    np.testing.assert_allclose(found[0].scores, [0.5, 0.4, 0.25])
    np.testing.assert_allclose(found[0].boxes[0], [50, 0, 60, (0.6 * 12 + 0.4 * 10) / 1.0])


def test_merely_suppressed_the_surest_stays_as_it_is():
    found = EnsemblePredictor([ONE, TWO], [1, 1], method="suppression").candidates([PICTURE], 0.1)[0]
    assert found.scores.tolist() == [0.8, 0.6, 0.5] and found.boxes[1].tolist() == [50, 0, 60, 12]


class Trembling:
    """Finds what is there, each time a little differently, at scores from the weakest on; above the minimum only."""

    classes = ("roll", "ring")

    def __init__(self, seed):
        self.about = {"classes": list(self.classes)}
        random = np.random.default_rng(seed)
        truth = np.random.default_rng(7).uniform(0, 80, (40, 2))
        corner = truth + random.normal(0, 2, truth.shape)
        boxes = np.hstack([corner, corner + 18])
        scores = np.clip(
            np.random.default_rng(8).beta(0.6, 1.2, 40) + random.normal(0, 0.1, 40), 0.001, 0.999
        )
        order = np.argsort(-scores)
        self._found = Candidates(boxes[order], scores[order], (np.arange(40) % 2)[order])

    def candidates(self, pictures, minimum_score):
        above = self._found.scores >= minimum_score
        one = Candidates(
            *(each[above] for each in (self._found.boxes, self._found.scores, self._found.classes))
        )
        return [one for _ in pictures]


def test_fused_boxes_are_the_same_whatever_minimum_score_is_asked_for():
    """What a measurement finds at a score is what a run with that minimum score finds, class by class."""
    both = EnsemblePredictor([Trembling(1), Trembling(2), Trembling(3)], [1, 1, 2])
    measured = both.candidates([PICTURE], MEASURING_SCORE)[0].after_suppression(0.3, 0.5)
    assert len(measured.scores) > 8
    order = DetectionOrder(minimum_score=0.3)
    (row,) = Looker(both, order).look([PICTURE])
    expected = [
        {"class": both.classes[kind], "score": told_score(score), "box": np.round(box, 2).tolist()}
        for box, score, kind in zip(measured.boxes, measured.scores.tolist(), measured.classes, strict=True)
    ]
    assert row["detections"] == expected
    # One class's minimum score is nothing to another's boxes.
    (other,) = Looker(both, DetectionOrder(minimum_score=0.3, minimum_scores={"ring": 0.9})).look([PICTURE])
    rolls = [each for each in row["detections"] if each["class"] == "roll"]
    assert [each for each in other["detections"] if each["class"] == "roll"] == rolls and len(rolls) > 3


def test_members_and_weights_belong_together():
    with pytest.raises(ValueError, match="2 members and 1 weights"):
        EnsemblePredictor([ONE, TWO], [1])
