"""Kinds of error and doubtful labels: against slow versions, by hand, and with planted mistakes."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.score.doubts import doubt_labels
from avocet.core.score.mistakes import (
    BOTH,
    DUPLICATE,
    KINDS,
    NO_CANDIDATE,
    NOT_FOUND,
    NOTHING_THERE,
    SHIFTED,
    SUPPRESSED,
    TOO_LARGE,
    TOO_LOW,
    TOO_SMALL,
    WRONG_CLASS,
    find_mistakes,
)
from avocet.core.score.precision import evaluate
from tests.conftest import examples
from tests.core.score.test_precision import pictures
from tests.core.slow import iou_of_two, match_slowly


def misplaced_slowly(box, truth, threshold):
    """Laid about the truth's middle it would do, or else it is too large or too small."""
    width, height = box[2] - box[0], box[3] - box[1]
    x, y = (truth[0] + truth[2]) / 2, (truth[1] + truth[3]) / 2
    if iou_of_two([x - width / 2, y - height / 2, x + width / 2, y + height / 2], truth) >= threshold:
        return SHIFTED
    larger = width * height > (truth[2] - truth[0]) * (truth[3] - truth[1])
    return TOO_LARGE if larger else TOO_SMALL


def kinds_slowly(truth, found, threshold=0.5, background=0.1):
    """(detection, truth, kind) of every error of a picture, from the definitions."""
    counts = [not (a or b) for a, b in zip(truth.ignored, truth.crowd, strict=True)]
    taken = {}
    for label in set(truth.classes) | set(found.classes):
        mine = [i for i in range(len(found.boxes)) if found.classes[i] == label]
        real = [j for j in range(len(truth.boxes)) if truth.classes[j] == label]
        answers = match_slowly(
            found.boxes[mine],
            found.scores[mine],
            truth.boxes[real],
            threshold,
            truth.ignored[real],
            truth.crowd[real],
        )
        taken |= {i: real[j] for i, j in zip(mine, answers, strict=True) if j >= 0}
    errors, covered = [], set()
    for i in range(len(found.boxes)):
        if i in taken:
            continue
        own = {
            j: iou_of_two(found.boxes[i], truth.boxes[j])
            for j in range(len(truth.boxes))
            if counts[j] and truth.classes[j] == found.classes[i]
        }
        other = {
            j: iou_of_two(found.boxes[i], truth.boxes[j])
            for j in range(len(truth.boxes))
            if counts[j] and truth.classes[j] != found.classes[i]
        }
        near, far = max(own.values(), default=0), max(other.values(), default=0)
        if near >= threshold:
            kind = DUPLICATE
        elif far >= threshold:
            kind = WRONG_CLASS
            covered.add(max(other, key=lambda j: (other[j], -j)))
        elif near >= background:
            about = max(own, key=lambda j: (own[j], -j))
            kind = misplaced_slowly(found.boxes[i], truth.boxes[about], threshold)
            covered.add(about)
        else:
            kind = BOTH if far >= background else NOTHING_THERE
        errors.append((i, kind))
    missed = [
        j for j in range(len(truth.boxes)) if counts[j] and j not in taken.values() and j not in covered
    ]
    return sorted(errors), missed


@pytest.mark.long
@examples(200)
@given(st.lists(pictures(classes=3), min_size=1, max_size=3))
def test_kinds_and_gains_equal_the_definitions(scene):
    truths, found = [each[0] for each in scene], [each[1] for each in scene]
    made = find_mistakes(truths, found, 3)
    for number, (truth, seen) in enumerate(scene):
        here = made.picture == number
        errors, missed = kinds_slowly(truth, seen)
        wrong = here & ~np.isin(made.kind, NOT_FOUND)
        assert sorted(zip(made.detection[wrong].tolist(), made.kind[wrong].tolist(), strict=True)) == errors
        assert sorted(made.truth[here & np.isin(made.kind, NOT_FOUND)].tolist()) == missed
    np.testing.assert_allclose(made.mean, evaluate(truths, found, range(3), [0.5]).mean(), atol=1e-12)
    # Leaving out all wrong detections of a kind is measuring without them.
    for kind in (BOTH, DUPLICATE, NOTHING_THERE):
        left = []
        for number, each in enumerate(found):
            stays = np.ones(len(each.boxes), bool)
            stays[made.detection[(made.picture == number) & (made.kind == kind)]] = False
            left.append(PictureDetections(each.boxes[stays], each.scores[stays], each.classes[stays]))
        expected = evaluate(truths, left, range(3), [0.5]).mean()
        np.testing.assert_allclose(made.mean + made.gains[kind], expected, atol=1e-12)


def test_each_kind_by_hand():
    truth = PictureTruth(
        [[0, 0, 10, 10], [20, 0, 30, 10], [40, 0, 50, 10], [60, 0, 70, 10], [80, 0, 90, 10]], [0, 1, 0, 1, 0]
    )
    found = PictureDetections(
        [
            [0, 0, 10, 10],  # hit
            [0, 0, 10, 9],  # duplicate of it
            [20, 0, 30, 10],  # a ring taken for a roll
            [40, 0, 50, 4],  # a roll, but IoU 0.4
            [60, 0, 70, 3],  # a ring taken for a roll, and IoU 0.3
            [200, 0, 210, 10],  # nothing there
        ],
        [0.9, 0.8, 0.7, 0.6, 0.5, 0.4],
        [0, 0, 0, 0, 0, 0],
    )
    made = find_mistakes([truth], [found], 2)
    assert [
        (KINDS[kind], int(detection), int(about))
        for kind, detection, about in zip(made.kind, made.detection, made.truth, strict=True)
    ] == [
        ("duplicate", 1, 0),
        ("wrong class", 2, 1),
        ("too small", 3, 2),
        ("wrong class and place", 4, 3),
        ("background", 5, -1),
        ("no candidate", -1, 3),
        ("no candidate", -1, 4),
    ]
    # Rolls: one of three at precision 1, 34 of 101 recalls; rings: none.
    assert made.mean == pytest.approx(34 / 101 / 2)
    # The ring put right is one of two rings, at precision 1.
    assert made.gains[WRONG_CLASS] == pytest.approx((51 / 101) / 2 + 0)
    # The roll put right is the second hit, third in order without the mended one: precision 2 of 4.
    assert made.gains[TOO_SMALL] == pytest.approx(33 * 0.5 / 101 / 2)
    # One roll and one ring fewer to find: rolls one of two.
    assert made.gains[NO_CANDIDATE] == pytest.approx((51 - 34) / 101 / 2)
    assert made.gains[[TOO_LARGE, SHIFTED, TOO_LOW, SUPPRESSED]].tolist() == [0, 0, 0, 0], "no error, no gain"


def test_why_a_truth_was_not_found_by_hand():
    boxes = [[0, 0, 10, 10], [20, 0, 30, 10], [26, 0, 36, 10], [60, 0, 70, 10]]
    truth = PictureTruth(boxes, [0, 0, 0, 0])
    # The third lies behind the second and is suppressed by it; the first scores too little; the last has none.
    candidates = PictureDetections([boxes[0], boxes[1], [24, 0, 34, 10]], [0.1, 0.9, 0.8], [0, 0, 0])
    found = PictureDetections([boxes[1]], [0.9], [0])
    made = find_mistakes([truth], [found], 1, candidates=[candidates], minimum_score=0.3)
    assert [KINDS[kind] for kind in made.kind] == ["under the minimum score", "suppressed", "no candidate"]
    assert made.truth.tolist() == [0, 2, 3]


def test_mistakes_need_as_many_pictures_of_both():
    with pytest.raises(ValueError, match="1 pictures of truths, but 0"):
        find_mistakes([PictureTruth([], [])], [], 1)


def test_planted_labelling_mistakes_come_first():
    """A good detector, 400 labels, 12 of them spoilt: the spoilt ones lead the list."""
    generator = np.random.default_rng(5)
    truths, found, planted = [], [], set()
    for picture in range(40):
        corners = np.stack([np.arange(10) * 40.0, np.zeros(10)], axis=1)
        boxes = np.concatenate([corners, corners + 30], axis=1)
        classes = generator.integers(0, 3, 10)
        wobble = generator.normal(0, 0.8, boxes.shape)
        found.append(PictureDetections(boxes + wobble, generator.uniform(0.7, 0.98, 10), classes))
        labels, named, keep = boxes.copy(), classes.copy(), np.ones(10, bool)
        if picture < 3:
            keep[0] = False
            planted.add(("unlabelled", picture))
        elif picture < 6:
            named[1] = (named[1] + 1) % 3
            planted.add(("other class", picture))
        elif picture < 9:
            labels[2] += 10
            planted.add(("badly placed", picture))
        labels, named = labels[keep], named[keep]
        if 9 <= picture < 12:
            labels, named = np.vstack([labels, [10, 80, 40, 110]]), np.append(named, 0)
            planted.add(("background", picture))
        truths.append(PictureTruth(labels, named))
    doubts = doubt_labels(truths, found, 3)
    assert {(doubt.kind, doubt.picture) for doubt in doubts} == planted
    assert all(a.likelihood >= b.likelihood for a, b in itertools.pairwise(doubts))
    assert all(0 <= doubt.likelihood <= 1 for doubt in doubts)


def test_a_detector_that_misses_much_gives_little_reason_to_doubt():
    """Of 20 rolls 10 are found, of 20 rings 19: what is not found is doubted by Bayes' rule."""
    boxes = np.array([[40.0 * i, 50 * j, 40 * i + 30, 50 * j + 30] for j in range(2) for i in range(20)])
    classes = np.repeat([0, 1], 20)
    seen = np.r_[np.arange(10), np.arange(20, 39)]
    found = PictureDetections(boxes[seen], np.full(len(seen), 0.9), classes[seen])
    doubts = doubt_labels([PictureTruth(boxes, classes)], [found], 2)
    assert {each.kind for each in doubts} == {"background"} and len(doubts) == 11
    # One more found and one more asked in each half: shares 11 / 22 and 20 / 22.
    assert doubts[0].truth == 39
    assert doubts[0].likelihood == pytest.approx(0.02 / (0.02 + 0.98 * (1 - 20 / 22)))
    assert doubts[1].likelihood == pytest.approx(0.02 / (0.02 + 0.98 * 0.5))


def test_what_is_ignored_is_not_doubted():
    truth = PictureTruth([[0, 0, 10, 10]], [0], [True], [False])
    found = PictureDetections([[0, 0, 10, 10]], [0.9], [1])
    assert doubt_labels([truth], [found], 2) == []
