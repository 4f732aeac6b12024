"""Soft suppression and fusion, against versions written from the papers, and by hand."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from avocet.core.detections import PictureDetections
from avocet.core.raw.fusion import fuse
from avocet.core.raw.soft_suppression import soften
from tests.conftest import examples
from tests.core.raw.test_suppression import scenes
from tests.core.slow import iou_of_two


def soften_slowly(boxes, scores, method, limit, sigma, classes):
    left, values, order = list(range(len(boxes))), list(scores), []
    while left:
        best = max(left, key=lambda i: (values[i], -i))
        left.remove(best)
        order.append(best)
        for other in left:
            if classes[other] != classes[best]:
                continue
            shared = iou_of_two(boxes[best], boxes[other])
            if method == "linear":
                values[other] *= (1 - shared) if shared >= limit else 1
            else:
                values[other] *= math.exp(-(shared**2) / sigma)
    return values, order


@examples(150)
@given(
    scenes(),
    st.sampled_from(["linear", "gaussian"]),
    st.sampled_from([0.25, 0.5]),
    st.sampled_from([0.3, 0.5]),
)
def test_soft_suppression_equals_the_paper(scene, method, limit, sigma):
    boxes, scores, classes = scene
    made = soften(boxes, scores, method, limit, sigma, classes)
    values, order = soften_slowly(boxes, scores, method, limit, sigma, classes)
    np.testing.assert_allclose(made.scores, values, atol=1e-12)
    # Products in another order can part ties by a last bit, so the order is held only where scores differ.
    np.testing.assert_allclose(made.scores[made.order], np.array(values)[order], atol=1e-12)
    lowered = made.scores < np.asarray(scores, float) - 1e-12
    assert (made.lowered_by[lowered] >= 0).all()
    for box in np.flatnonzero(lowered):
        assert made.overlap[box] == pytest.approx(iou_of_two(boxes[box], boxes[made.lowered_by[box]]))


@pytest.mark.parametrize(
    "given_, message",
    [({"method": "hard"}, "unknown soft suppression"), ({"method": "gaussian", "sigma": 0}, "out of range")],
)
def test_soft_suppression_refuses(given_, message):
    with pytest.raises(ValueError, match=message):
        soften([[0, 0, 1, 1]], [0.5], **given_)


def fuse_slowly(models, weights, limit):
    """The paper's steps 1 to 6, with lists."""
    mean = sum(weights) / len(weights)
    entries = [
        (score * weight / mean, tuple(box), label)
        for model, weight in zip(models, weights, strict=True)
        for box, score, label in zip(model.boxes, model.scores, model.classes, strict=True)
    ]
    clusters, fused = [], []
    for entry in sorted(entries, key=lambda each: -each[0]):
        best, best_overlap = None, limit
        for number, (_, box, label) in enumerate(fused):
            overlap = iou_of_two(entry[1], box)
            # By rounding alone it may lie on either side, and there is no telling which is right.
            assume(label != entry[2] or min(abs(overlap - limit), abs(overlap - best_overlap)) > 1e-9)
            if label == entry[2] and overlap > best_overlap:
                best, best_overlap = number, overlap
        if best is None:
            clusters.append([])
            fused.append(None)
            best = len(clusters) - 1
        clusters[best].append(entry)
        total = sum(each[0] for each in clusters[best])
        box = tuple(sum(each[0] * each[1][k] for each in clusters[best]) / total for k in range(4))
        fused[best] = (total / len(clusters[best]), box, entry[2])
    return [
        (min(1, score * min(len(members), len(models)) / len(models)), *box, label)
        for (score, box, label), members in zip(fused, clusters, strict=True)
    ]


@st.composite
def several_models(draw):
    models = []
    for _ in range(draw(st.integers(1, 3))):
        count = draw(st.integers(0, 7))
        corner, side = st.integers(0, 12), st.integers(1, 8)
        boxes = draw(st.lists(st.tuples(corner, corner, side, side), min_size=count, max_size=count))
        scores = draw(st.lists(st.floats(0.05, 0.95), min_size=count, max_size=count, unique=True))
        labels = draw(st.lists(st.integers(0, 1), min_size=count, max_size=count))
        models.append(PictureDetections([(x, y, x + w, y + h) for x, y, w, h in boxes], scores, labels))
    return models, [draw(st.sampled_from([0.5, 1.0, 2.0])) for _ in models]


@examples(150)
@given(several_models(), st.sampled_from([0.3, 0.55]))
def test_fusion_equals_the_paper(given_, limit):
    models, weights = given_
    scores = sorted(s * w for m, w in zip(models, weights, strict=True) for s in m.scores)
    if any(b - a < 1e-9 for a, b in itertools.pairwise(scores)):
        return  # ties have no order of their own in the paper
    made = fuse(models, weights, limit)
    mine = sorted(
        (score, *box, label)
        for score, box, label in zip(made.found.scores, made.found.boxes, made.found.classes, strict=True)
    )
    expected = sorted(fuse_slowly(models, weights, limit))
    assert len(mine) == len(expected)
    if mine:
        np.testing.assert_allclose(np.array(mine, float), np.array(expected, float), atol=1e-9)
    assert (np.diff(made.found.scores) <= 0).all()
    assert len(made.cluster) == sum(len(model.boxes) for model in models)


def test_fusion_by_hand_with_weights():
    """Scores 0.8 and 0.4 with weights 3 and 1, scaled to 1.5 and 0.5: 1.2 and 0.2."""
    one = PictureDetections([[0, 0, 10, 10]], [0.8], [0])
    two = PictureDetections([[0, 0, 10, 8]], [0.4], [0])
    made = fuse([one, two], [3, 1])
    np.testing.assert_allclose(made.found.boxes, [[0, 0, 10, (1.2 * 10 + 0.2 * 8) / 1.4]])
    np.testing.assert_allclose(made.found.scores, [0.7])
    assert made.cluster.tolist() == [0, 0]


@pytest.mark.parametrize("weights", [[1], [1, 0], [1, float("nan")]])
def test_fusion_refuses_weights_that_do_not_fit(weights):
    nothing = PictureDetections([], [], [])
    with pytest.raises(ValueError, match="positive weight"):
        fuse([nothing, nothing], weights)
    with pytest.raises(ValueError, match="at least one"):
        fuse([])
