"""The fate of every candidate, and the arithmetic of one, against the detector's own path."""

import numpy as np
import pytest

from avocet.core.boxes import iou
from avocet.core.raw.candidates import in_picture
from avocet.core.raw.decode import decode
from avocet.core.raw.explaining import BELOW, DROPPED, KEPT, STEPS, follow, near_truth, work_out
from avocet.core.raw.letterbox import letterbox
from avocet.core.raw.suppressing import METHODS

WIDTH, HEIGHT, SIDE = 300, 200, 128
STRIDES, REACH = (8, 16, 32), 2.0
ANCHORS = [[[10, 12], [20, 14]], [[30, 30], [44, 28]], [[60, 70], [90, 64]]]


@pytest.fixture(scope="module")
def outputs():
    generator = np.random.default_rng(3)
    box = letterbox(WIDTH, HEIGHT, SIDE)
    raw = [
        generator.normal(0, 1.5, (2, 8, box.input_height // stride, box.input_width // stride))
        for stride in STRIDES
    ]
    return raw, box


@pytest.mark.parametrize("score, most", [(0.1, 1000), (0.3, 20), (0.0, 5)])
def test_fates_agree_with_what_detection_does(outputs, score, most):
    raw, box = outputs
    decoded = decode(raw, ANCHORS, STRIDES, REACH)
    fates = follow(decoded, box, WIDTH, HEIGHT, score, 0.5, most=most)
    expected = in_picture(
        decode(raw, ANCHORS, STRIDES, REACH, minimum_objectness=score), box, WIDTH, HEIGHT, score, most
    ).candidates.after_suppression(score, 0.5)
    kept = fates.kept()
    np.testing.assert_allclose(fates.placed.boxes[kept], expected.boxes)
    np.testing.assert_allclose(fates.score[kept], expected.scores)
    everything, above, best, left = fates.funnel()
    assert everything == len(decoded.boxes) and left == len(kept)
    assert above == int((fates.placed.high_enough & fates.placed.visible).sum()) and best == min(above, most)
    for number in np.flatnonzero(fates.step == DROPPED):
        by = fates.suppressor[number]
        assert fates.step[by] == KEPT and fates.overlap[number] > 0.5
        assert fates.placed.classes[by] == fates.placed.classes[number]
    assert (fates.step[fates.placed.scores < score] == BELOW).all()


def test_the_ways_of_suppression_differ_as_they_should(outputs):
    raw, box = outputs
    decoded = decode(raw, ANCHORS, STRIDES, REACH)
    kept = {m: set(follow(decoded, box, WIDTH, HEIGHT, 0.2, 0.4, m).kept().tolist()) for m in METHODS}
    across = sorted(kept["across classes"])
    boxes = in_picture(decoded, box, WIDTH, HEIGHT, 0.2).boxes[across]
    overlaps = iou(boxes, boxes)
    assert (overlaps[~np.eye(len(across), dtype=bool)] <= 0.4).all() and len(across) < len(kept["by class"])
    assert kept["linear"] != kept["by class"] and kept["gaussian"] != kept["linear"]
    soft = follow(decoded, box, WIDTH, HEIGHT, 0.2, 0.4, "gaussian")
    assert (soft.score <= soft.placed.scores + 1e-12).all() and (soft.score < soft.placed.scores).any()
    with pytest.raises(ValueError, match="unknown suppression"):
        follow(decoded, box, WIDTH, HEIGHT, 0.2, 0.4, "hard")
    assert len(STEPS) == 5


def test_arithmetic_leads_to_the_decoded_box(outputs):
    raw, box = outputs
    decoded = decode(raw, ANCHORS, STRIDES, REACH)
    placed = in_picture(decoded, box, WIDTH, HEIGHT, 0)
    for number in np.random.default_rng(0).integers(0, len(decoded.boxes), 40):
        level, row, column, anchor = decoded.origin[number]
        made = work_out(
            raw[level][anchor, :, row, column], row, column, ANCHORS[level][anchor], STRIDES[level], REACH, box,
            WIDTH, HEIGHT,
        )  # fmt: skip
        np.testing.assert_allclose(made.in_input, decoded.boxes[number])
        np.testing.assert_allclose(made.in_picture, placed.boxes[number])
        assert made.score == pytest.approx(placed.scores[number]) and made.best == placed.classes[number]


def test_arithmetic_by_hand():
    """t = (0, ln 3, ln 2, 0, ln 4): σ = 0.5, 0.75, 0.8; cell 3, 1 of stride 8; anchor 10 by 6."""
    raw = [0, np.log(3), np.log(2), 0, np.log(4), 0, np.log(9)]
    made = work_out(raw, 1, 3, [10, 6], 8, 2.0, letterbox(128, 128, 64), 128, 128)
    np.testing.assert_allclose(made.centre_cells, [3.5, 2.0])
    np.testing.assert_allclose(made.centre, [28, 16])
    np.testing.assert_allclose(made.size, [20, 6])
    np.testing.assert_allclose(made.in_input, [18, 13, 38, 19])
    np.testing.assert_allclose(made.in_picture, [36, 26, 76, 38])
    assert made.best == 1 and made.score == pytest.approx(0.8 * 0.9)


def test_the_nearest_of_a_truth(outputs):
    raw, box = outputs
    fates = follow(decode(raw, ANCHORS, STRIDES, REACH), box, WIDTH, HEIGHT, 0.3, 0.5)
    kept = int(fates.kept()[0])
    near = near_truth(fates, fates.placed.boxes[kept])
    assert near[0] == kept and 1 <= len(near) <= 5
    assert not len(near_truth(fates, [1000, 1000, 1010, 1010]))
