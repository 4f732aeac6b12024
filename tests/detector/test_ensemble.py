"""Several detectors that answer as one."""

import numpy as np
import pytest

from avocet.core.raw.candidates import Candidates
from avocet.detector.model.ensemble import EnsemblePredictor


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


def test_members_and_weights_belong_together():
    with pytest.raises(ValueError, match="2 members and 1 weights"):
        EnsemblePredictor([ONE, TWO], [1])
