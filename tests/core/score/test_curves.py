"""Learning curves, hints from training figures, anchors of very many boxes."""

import numpy as np
import pytest

from avocet.core.raw.anchors import (
    MANY_SIZES,
    anchor_curve,
    cluster_anchors,
    mean_best_iou,
    share_poorly_fitted,
)
from avocet.work.train.hints import training_hints


def test_hints_come_when_due_and_only_then():
    epochs = range(1, 9)
    falling = [8, 6, 5, 4, 3.5, 3, 2.8, 2.6]
    quiet = training_hints(epochs, falling, falling, {"roll": [0, 0, 3, 4, 5, 5, 5, 5]}, {"roll": 5})
    assert quiet == []
    rising = [8, 6, 5, 5.2, 5.5, 5.8, 6.2, 6.5]
    assert [h.kind for h in training_hints(epochs, falling, rising, {}, {})] == ["overfitting"]
    assert training_hints(epochs, falling, rising, {}, {})[0].epoch == 3
    assert [h.kind for h in training_hints(epochs, [*rising[:5], 9, 12, 20], rising, {}, {})] == [
        "learning rate"
    ]
    never = training_hints(epochs, falling, falling, {"ring": [4, 0, 0, 0, 0, 0, 0, 0]}, {"ring": 7})
    assert [h.kind for h in never] == ["never predicted"] and "7 of it" in never[0].text
    # Nobody can find what is not there, and nothing is said before there is something to judge by.
    both = training_hints(
        epochs, falling, falling, {"ring": [0] * 8, "roll": [0] * 8}, {"ring": 7, "roll": 5}
    )
    assert [h.text.split(" have")[0] for h in both] == ["ring and roll"] and "12 of them" in both[0].text
    leap = training_hints([1, 2, 3], [9, 5, 4], [9000, 6, 5], {}, {})
    assert [(h.kind, h.epoch) for h in leap] == [("learning rate", 1)] and "leapt to 9,000" in leap[0].text
    assert training_hints(epochs, falling, falling, {"ring": [0] * 8}, {"ring": 0}) == []
    assert training_hints([1], [9], [9], {"ring": [0]}, {"ring": 3}) == []


def test_many_boxes_give_nearly_the_anchors_of_all():
    random = np.random.default_rng(0)
    centres = np.array([[20.0, 20], [60, 30], [40, 120]])
    sizes = centres[random.integers(3, size=MANY_SIZES)] * random.lognormal(0, 0.08, (MANY_SIZES, 2))
    few = cluster_anchors(sizes[:-1], 3, np.random.default_rng(5))
    many = cluster_anchors(sizes, 3, np.random.default_rng(5))
    assert np.abs(many / few - 1).max() < 0.03
    assert mean_best_iou(sizes, many) == pytest.approx(mean_best_iou(sizes, few), abs=1e-3)


@pytest.mark.slow
def test_curve_never_falls_and_poor_fits_are_counted():
    random = np.random.default_rng(2)
    sizes = random.uniform(5, 200, (300, 2))
    curve = anchor_curve(sizes, range(1, 16), np.random.default_rng(0))
    assert len(curve) == 15 and curve == sorted(curve)
    anchors = [[20, 20], [100, 60]]
    slow = 0
    for w, h in sizes:
        best = 0.0
        for a, b in anchors:
            shared = min(w, a) * min(h, b)
            best = max(best, shared / (w * h + a * b - shared))
        slow += best < 0.5
    assert share_poorly_fitted(sizes, anchors) == slow / 300
