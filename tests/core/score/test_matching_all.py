"""Everything matched at once, against one picture, class, area range and threshold after another."""

import numpy as np
import pytest

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.flattened import flatten, rank_in_group
from avocet.core.score.matching_all import match_all, overlapping_pairs
from tests.core.slow import iou_of_two, match_slowly

LEVELS = np.array([0.3, 0.5, 0.75, 1.0])


def drawn(random, count, crowded):
    """Boxes on a coarse grid, so that ties of overlap and boxes without an area come up."""
    corners = random.integers(0, 6 if crowded else 20, (count, 2)).astype(float)
    return np.hstack([corners, corners + random.integers(0, 7, (count, 2))])


@pytest.mark.parametrize("seed", range(60))
def test_matches_as_one_after_another(seed):
    random = np.random.default_rng(seed)
    groups = int(random.integers(1, 5))
    boxes, truths = (drawn(random, int(random.integers(0, 25)), seed % 2) for _ in range(2))
    group, truth_group = random.integers(0, groups, len(boxes)), random.integers(0, groups, len(truths))
    # Tenths: of equal scores the earlier comes first.
    scores = random.integers(0, 10, len(boxes)) / 10
    crowd = random.random(len(truths)) < 0.15
    ignored = (random.random((3, len(truths))) < 0.25) | crowd
    found = match_all(
        boxes, group, rank_in_group(group, scores), truths, truth_group, ignored, crowd, LEVELS
    ).truth
    assert found.shape == (len(LEVELS), 3, len(boxes))
    for level, threshold in enumerate(LEVELS):
        for span in range(3):
            for number in range(groups):
                mine, real = np.flatnonzero(group == number), np.flatnonzero(truth_group == number)
                expected = match_slowly(
                    boxes[mine], scores[mine], truths[real], threshold, ignored[span][real], crowd[real]
                )
                wanted = [-1 if place < 0 else real[place] for place in expected]
                assert found[level, span, mine].tolist() == wanted


@pytest.mark.parametrize("seed", range(30))
@pytest.mark.parametrize("least", [0.0, 0.1, 0.5])
def test_pairs_that_overlap(seed, least):
    random = np.random.default_rng(seed)
    boxes, truths = (drawn(random, int(random.integers(0, 15)), True) for _ in range(2))
    group, truth_group = random.integers(0, 3, len(boxes)), random.integers(0, 3, len(truths))
    crowd = random.random(len(truths)) < 0.3
    expected = {
        (i, j): iou_of_two(boxes[i], truths[j], crowd[j])
        for i in range(len(boxes))
        for j in range(len(truths))
        if group[i] == truth_group[j]
    }
    detection, truth, overlap = overlapping_pairs(boxes, group, truths, truth_group, crowd, least)
    found = dict(zip(zip(detection.tolist(), truth.tolist(), strict=True), overlap, strict=True))
    assert found == pytest.approx({pair: value for pair, value in expected.items() if value >= least})
    assert (np.diff(detection) >= 0).all()


def test_a_truth_that_counts_is_preferred_to_a_better_ignored_one():
    truths = np.array([[0.0, 0, 10, 10], [0, 0, 10, 8]])
    zero, flags = np.zeros(1, int), np.array([[True, False]])
    found = match_all(
        truths[:1], zero, zero, truths, np.zeros(2, int), flags, np.zeros(2, bool), np.array([0.5, 0.9])
    )
    # At 0.9 only the ignored one is near enough.
    assert found.truth[:, 0, 0].tolist() == [1, 0]


@pytest.mark.parametrize("seed", range(30))
def test_boxes_of_many_pictures_in_one_list(seed):
    random = np.random.default_rng(seed)
    ids = random.permutation(6)[: int(random.integers(0, 6))]
    pictures = []
    for _ in range(int(random.integers(0, 5))):
        count = int(random.integers(0, 6))
        boxes = drawn(random, count, False)
        pictures.append(
            PictureTruth(
                boxes, random.integers(0, 6, count), random.random(count) < 0.3, random.random(count) < 0.3
            )
        )
    flat = flatten(pictures, ids)
    expected = [
        (number, index, ids.tolist().index(kind), box.tolist(), bool(ignored or crowd), bool(crowd))
        for number, each in enumerate(pictures)
        for index, (box, kind, ignored, crowd) in enumerate(
            zip(each.boxes, each.classes, each.ignored, each.crowd, strict=True)
        )
        if kind in ids
    ]
    columns = (flat.owner, flat.index, flat.kind, flat.boxes, flat.flags, flat.crowd)
    assert list(zip(*(column.tolist() for column in columns), strict=True)) == expected
    same_group = flat.group[:, None] == flat.group
    assert (same_group == ((flat.owner[:, None] == flat.owner) & (flat.kind[:, None] == flat.kind))).all()


@pytest.mark.parametrize("seed", range(30))
def test_places_by_falling_score(seed):
    random = np.random.default_rng(seed)
    count = int(random.integers(0, 40))
    group, scores = random.integers(0, 5, count), random.integers(0, 6, count) / 5
    rank = rank_in_group(group, scores)
    for number in range(5):
        members = np.flatnonzero(group == number).tolist()
        ordered = sorted(members, key=lambda i: -scores[i])
        assert rank[ordered].tolist() == list(range(len(members)))


def test_detections_keep_their_scores():
    found = [PictureDetections(np.zeros((2, 4)), np.array([0.3, 0.8]), np.array([1, 4]))]
    flat = flatten(found, np.array([4]))
    assert flat.scores.tolist() == [0.8] and flat.index.tolist() == [1]
