"""Looks of crops and pictures, and what may be wrong with boxes, against slow versions."""

from itertools import pairwise

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from avocet.core.labels.comparing import compare_boxes
from avocet.core.labels.findings import doubled, odd_shapes, outside, tiny
from avocet.core.labels.looks import alike, crop_features, near_identical, picture_look, strangeness
from tests.core.slow import iou_of_two

BOXES = st.lists(
    st.tuples(*[st.integers(0, 30)] * 2, *[st.integers(1, 20)] * 2).map(
        lambda b: [b[0], b[1], b[0] + b[2], b[1] + b[3]]
    ),
    max_size=12,
)


@given(
    arrays(np.float64, st.tuples(st.integers(0, 9), st.just(3)), elements=st.integers(-9, 9)),
    st.integers(1, 4),
)
def test_strangeness(rows, neighbours):
    for row, value in zip(rows, strangeness(rows, neighbours), strict=True):
        apart = sorted(float(np.linalg.norm(row - other)) for other in rows)[1:][:neighbours]
        assert np.isclose(value, np.mean(apart) if apart else 0, atol=1e-6)


@given(
    arrays(np.float64, st.tuples(st.integers(2, 30), st.just(2)), elements=st.integers(-9, 9)),
    st.integers(1, 4),
    st.integers(2, 6),
)
def test_strangeness_of_very_many_is_sought_among_some(rows, neighbours, most):
    step = -(-len(rows) // most)
    for place, (row, value) in enumerate(zip(rows, strangeness(rows, neighbours, most), strict=True)):
        others = [index for index in range(0, len(rows), step) if index != place]
        apart = sorted(float(np.linalg.norm(row - rows[index])) for index in others)
        # A row that is one of those sought among has one other fewer, and so has its whole block.
        held = len(range(0, len(rows), step)) - 1
        assert np.isclose(value, np.mean(apart[: min(neighbours, held)]), atol=1e-6)


@given(st.lists(st.integers(-(2**63), 2**63 - 1), max_size=8), st.data())
def test_near_pairs(looks, data):
    groups = data.draw(st.lists(st.integers(0, 2), min_size=len(looks), max_size=len(looks)))
    expected = {
        (i, j, ((looks[i] ^ looks[j]) & (2**64 - 1)).bit_count())
        for i in range(len(looks))
        for j in range(i + 1, len(looks))
        if groups[i] != groups[j] and ((looks[i] ^ looks[j]) & (2**64 - 1)).bit_count() <= 20
    }
    assert set(near_identical(looks, groups, most=20)) == expected


@given(
    arrays(
        np.uint8, st.tuples(st.integers(1, 20), st.integers(1, 20), st.just(3)), elements=st.integers(0, 5)
    )
)
def test_the_look_is_that_of_exact_means(pixels):
    """Each pixel drawn 8 rows high and 9 columns wide divides into equal areas without a rest."""
    height, width = pixels.shape[:2]
    drawn = pixels.astype(int).sum(axis=2).repeat(8, axis=0).repeat(9, axis=1)
    sums = drawn.reshape(8, height, 9, width).sum(axis=(1, 3))
    bits = "".join(str(int(left > right)) for row in sums for left, right in pairwise(row.tolist()))
    assert f"{picture_look(pixels) % 2**64:064b}" == bits


def test_looks_of_near_and_far_pictures(frames):
    random = np.random.default_rng(0)
    first = np.asarray(frames[0].pixels)
    noisy = np.clip(first + random.normal(0, 4, first.shape) + 5, 0, 255).astype(np.uint8)

    def apart(a, b):
        return ((picture_look(a) ^ picture_look(b)) & (2**64 - 1)).bit_count()

    assert apart(first, noisy) <= 5 < apart(first, np.asarray(frames[1].pixels))
    assert apart(first, first[:, ::-1]) > 5
    assert alike(first, noisy) and alike(first[::2, ::2], noisy)
    assert not alike(first, np.asarray(frames[1].pixels))


def test_one_moved_thing_makes_another_picture(frames):
    first = np.asarray(frames[0].pixels)
    x1, y1, x2, y2 = (int(value) for value in frames[0].boxes[0])
    moved = first.copy()
    moved[y1:y2, x1:x2] = np.roll(first, 300, axis=0)[y1:y2, x1:x2]
    assert not alike(first, moved)


def test_crops_of_one_kind_are_alike(frames):
    """The nearest other crop is mostly of the same class."""
    features, names = [], []
    for frame in frames:
        for box, name in zip(frame.boxes, frame.classes, strict=True):
            features.append(crop_features(np.asarray(frame.pixels), box))
            names.append(name)
    rows = np.array(features)
    apart = np.linalg.norm(rows[:, None] - rows[None], axis=2)
    np.fill_diagonal(apart, np.inf)
    hits = [names[i] == names[j] for i, j in enumerate(apart.argmin(axis=1))]
    assert len(hits) > 30 and np.mean(hits) > 0.7


@given(BOXES, st.sampled_from([0.3, 0.5, 0.9]))
def test_doubled_boxes(boxes, limit):
    expected = {
        (i, j)
        for i in range(len(boxes))
        for j in range(i + 1, len(boxes))
        if iou_of_two(boxes[i], boxes[j]) > limit
    }
    assert {pair[:2] for pair in doubled(boxes, limit=limit)} == expected


@given(BOXES)
def test_small_and_outside(boxes):
    assert tiny(boxes, 5).tolist() == [min(b[2] - b[0], b[3] - b[1]) < 5 for b in boxes]
    assert outside(boxes, 25, 30).tolist() == [b[2] > 25 or b[3] > 30 for b in boxes]


def test_odd_shapes_by_hand():
    """Median aspect 1, deviations of ln 2 and ln 8 against a spread of at least a tenth."""
    boxes = [[0, 0, 10, 10]] * 8 + [[0, 0, 20, 10], [0, 0, 80, 10]]
    far = odd_shapes(boxes, [3] * 10)
    assert far[:8].tolist() == [0] * 8
    assert np.allclose(far[8:], [np.log(2) / 0.1, np.log(8) / 0.1])
    assert not odd_shapes(boxes, list(range(10))).any()


@given(BOXES, BOXES, st.data())
def test_comparing_accounts_for_every_box(before, after, data):
    old = data.draw(st.lists(st.integers(0, 1), min_size=len(before), max_size=len(before)))
    new = data.draw(st.lists(st.integers(0, 1), min_size=len(after), max_size=len(after)))
    found = compare_boxes(before, old, after, new)
    assert len(before) - len(found.gone) == len(after) - len(found.added)
    for i, j in found.moved:
        assert before[i] != after[j] and iou_of_two(before[i], after[j]) >= 0.3
    for i, j in found.relabelled:
        assert old[i] != new[j]
    same = compare_boxes(before, old, before, old)
    assert not (same.added or same.gone or same.moved or same.relabelled)


def test_comparing_by_hand():
    before = [[0, 0, 10, 10], [20, 0, 30, 10], [40, 0, 50, 10], [60, 0, 70, 10]]
    after = [[0, 0, 10, 10], [20, 0, 30, 11], [40, 0, 50, 10], [90, 0, 99, 10]]
    found = compare_boxes(before, ["roll"] * 4, after, ["roll", "roll", "ring", "roll"])
    assert (
        found.added == [3] and found.gone == [3] and found.moved == [(1, 1)] and found.relabelled == [(2, 2)]
    )
