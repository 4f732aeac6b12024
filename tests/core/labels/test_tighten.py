"""Tightening, against the demo's truths."""

import numpy as np
import pytest

from avocet.core.boxes import iou
from avocet.core.labels.tighten import tighten
from avocet.demo.belt import render_still
from tests.core.labels.shapes import GROUNDS, SHAPES, scene

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def goods():
    """Pictures and their truths: some two hundred goods."""
    return [
        (np.asarray(frame.pixels), frame.boxes) for frame in (render_still(seed) for seed in range(700, 725))
    ]


def loosened(box, picture, shares):
    height, width = picture.shape[:2]
    sides = np.tile(box[2:] - box[:2], 2)
    return np.clip(box + shares * sides * [-1, -1, 1, 1], 0, [width, height] * 2)


def overlaps(goods, least, most):
    random = np.random.default_rng(5)
    before, after = [], []
    for picture, boxes in goods:
        for box in boxes:
            rough = loosened(box, picture, random.uniform(least, most, 4))
            before.append(iou([rough], [box])[0, 0])
            after.append(iou([tighten(picture, rough)], [box])[0, 0])
    return np.array(before), np.array(after)


@pytest.mark.long
def test_loose_boxes_come_back(goods):
    before, after = overlaps(goods, 0.0, 0.15)
    assert len(before) > 150 and before.mean() < 0.8
    assert after.mean() >= 0.9
    assert (after < before - 0.01).mean() < 0.03


@pytest.mark.long
def test_tight_boxes_stay(goods):
    _, after = overlaps(goods, 0.0, 0.0)
    assert after.mean() > 0.99 and (after == 1).mean() > 0.9


@pytest.mark.long
def test_boxes_drawn_too_small_grow(goods):
    before, after = overlaps(goods, -0.1, 0.0)
    assert after.mean() > before.mean()


@pytest.mark.parametrize("shape", SHAPES)
def test_tips_holes_and_shades_are_seen(shape):
    """Tight boxes stay and loose ones come back, on plain, noisy, textured and shaded grounds alike."""
    random = np.random.default_rng(1)
    tight, loose = [], []
    for number in range(40):
        picture, box = scene(shape, GROUNDS[number % 4], random)
        tight.append(iou([tighten(picture, box)], [box])[0, 0])
        rough = loosened(box, picture, random.uniform(0, 0.15, 4))
        loose.append(iou([tighten(picture, rough)], [box])[0, 0])
    assert (np.array(tight) > 0.95).mean() >= 0.98, np.sort(tight)[:4]
    assert (np.array(loose) >= 0.9).mean() >= 0.95, np.sort(loose)[:4]


def test_without_evidence_a_box_stays_as_it_is():
    random = np.random.default_rng(2)
    same = 0
    for number in range(60):
        picture, box = scene(SHAPES[number % 6], GROUNDS[number // 6 % 4], random, told_apart=False)
        same += tighten(picture, box).tolist() == box.tolist()
    assert same >= 58, f"{same} of 60 stayed"


def test_nothing_to_go_by_changes_nothing():
    plain = np.full((80, 80, 3), 120, np.uint8)
    assert tighten(plain, [10, 10, 60, 50]).tolist() == [10, 10, 60, 50]
    noise = np.random.default_rng(0).integers(0, 255, (80, 80, 3), dtype=np.uint8)
    found = tighten(noise, [20, 20, 60, 60])
    assert iou([found], [[20, 20, 60, 60]])[0, 0] > 0.4
    assert tighten(plain, [10, 10, 12, 12]).tolist() == [10, 10, 12, 12]


def test_boxes_over_the_edge_and_wrong_input():
    picture = np.full((60, 60, 3), 200, np.uint8)
    picture[:30, :25] = 40
    assert tighten(picture, [-8, -5, 28, 33]).tolist() == [0, 0, 25, 30]
    with pytest.raises(ValueError, match="no area"):
        tighten(picture, [70, 70, 90, 90])
    with pytest.raises(ValueError, match=r"shape \(H, W, 3\)"):
        tighten(picture[..., 0], [1, 1, 9, 9])
