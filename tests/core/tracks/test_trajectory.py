"""Courses between set boxes, few boxes that stand for many, and boxes without trembling."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.boxes import iou_of_pairs
from avocet.core.tracks.newness import Newness
from avocet.core.tracks.trajectory import few_boxes, steadied, trajectory
from tests.core.slow import iou_of_two


def slow_box_at(frames, boxes, held, frame):
    """The box on one frame, by looking at each pair of set boxes in turn."""
    if frame <= frames[0]:
        return boxes[0]
    for place in range(len(frames) - 1):
        if frames[place] <= frame < frames[place + 1]:
            share = 0.0 if held[place] else (frame - frames[place]) / (frames[place + 1] - frames[place])
            return boxes[place] * (1 - share) + boxes[place + 1] * share
    return boxes[-1]


@pytest.mark.parametrize("seed", range(20))
def test_boxes_between_set_ones(seed):
    random = np.random.default_rng(seed)
    count = int(random.integers(1, 6))
    frames = np.sort(random.choice(40, count, replace=False))
    corners = random.uniform(0, 50, (count, 2))
    boxes = np.hstack([corners, corners + random.uniform(1, 20, (count, 2))])
    held = random.random(count) < 0.4
    edges = np.sort(random.choice(np.arange(0, 40, 2), 4, replace=False))
    made = trajectory(edges.reshape(-1, 2), boxes, frames, held)
    asked = np.arange(-3, 45)
    expected = [slow_box_at(frames, boxes, held, frame) for frame in asked]
    assert np.allclose(made.boxes_at(asked), expected)
    inside = [any(first <= frame <= last for first, last in edges.reshape(-1, 2)) for frame in asked]
    assert made.in_sight(asked).tolist() == inside


@pytest.mark.parametrize(
    ("spans", "boxes", "frames", "words"),
    [
        ([[0, 3]], [], None, "at least one box"),
        ([[0, 3]], [[0, 0, 1, 1], [0, 0, 1, 1]], [2, 2], "must rise"),
        ([[0, 3], [4, 5]], [[0, 0, 1, 1]], [2], "not touch"),
        ([[0, 3], [2, 5]], [[0, 0, 1, 1]], [2], "not touch"),
    ],
)
def test_a_course_that_is_none_is_refused(spans, boxes, frames, words):
    with pytest.raises(ValueError, match=words):
        trajectory(spans, boxes, frames)


@pytest.mark.parametrize("seed", range(30))
@pytest.mark.parametrize("least", [0.7, 0.9])
def test_few_boxes_stand_for_all(seed, least):
    random = np.random.default_rng(seed)
    count = int(random.integers(1, 60))
    frames = np.cumsum(random.integers(1, 4, count))
    middles = np.cumsum(random.normal(0, 3, (count, 2)), axis=0) + 100
    sides = 30 + np.abs(np.cumsum(random.normal(0, 1, (count, 2)), axis=0))
    boxes = np.hstack([middles - sides / 2, middles + sides / 2])
    places = few_boxes(frames, boxes, least)
    assert {0, count - 1} <= set(places.tolist()) and (np.diff(places) > 0).all()
    made = trajectory([[frames[0], frames[-1]]], boxes[places], frames[places])
    between = [iou_of_two(a, b) for a, b in zip(made.boxes_at(frames), boxes, strict=True)]
    assert min(between) >= least - 1e-9
    # None of them is needless: without it something is off by more.
    for place in places[1:-1]:
        rest = places[places != place]
        without = trajectory([[frames[0], frames[-1]]], boxes[rest], frames[rest])
        assert iou_of_pairs(without.boxes_at(frames), boxes).min() < least


@pytest.mark.slow
def test_steadied_boxes_are_nearer_to_the_truth():
    """Even motion seen by a model that is off by two pixels at each frame."""
    random = np.random.default_rng(3)
    gains = []
    for _ in range(50):
        start, speed = random.uniform(0, 300, 2), random.uniform(-6, 6, 2)
        corner = start + np.arange(40)[:, None] * speed
        truth = np.hstack([corner, corner + random.uniform(40, 90, 2)])
        seen = truth + random.normal(0, 2, truth.shape)
        gains.append(np.abs(steadied(range(40), seen) - truth).mean() / np.abs(seen - truth).mean())
    # The mean of nine independent errors is a third of one; at the ends a line is less sure.
    assert 0.3 < np.mean(gains) < 0.5
    assert steadied([0, 1], np.zeros((2, 4))).shape == (2, 4) and len(steadied([], [])) == 0


@given(st.integers(3, 40), st.integers(0, 10_000))
def test_steadying_goes_by_frame_numbers(count, seed):
    """Against a line fitted by NumPy to the boxes of the frames around each."""
    random = np.random.default_rng(seed)
    frames = np.cumsum(random.choice([1, 1, 1, 2, 10], count))
    boxes = random.uniform(0, 100, (count, 4))
    made = steadied(frames, boxes)
    for place, frame in enumerate(frames):
        middle = min(max(frame, frames[0] + 4), max(frames[0] + 4, frames[-1] - 4))
        near = np.abs(frames - middle) <= 4
        near[place] = True
        # What lies between the box and its neighbours counts as well.
        some = np.flatnonzero(near)
        some = np.arange(some.min(), some.max() + 1)
        expected = boxes[place]
        if len(some) > 1:
            expected = [
                np.polyval(np.polyfit(frames[some] - frame, boxes[some, side], 1), 0) for side in range(4)
            ]
        np.testing.assert_allclose(made[place], expected, atol=1e-6)


@pytest.mark.parametrize("missed", [range(0), range(20, 29), [5, 6, 11, 30]])
def test_even_motion_stays_as_it_is_where_frames_were_missed(missed):
    frames = np.array([each for each in range(40) if each not in missed])
    boxes = np.array([[10 * each, 50, 10 * each + 60, 90] for each in frames], dtype=float)
    np.testing.assert_allclose(steadied(frames, boxes), boxes, atol=1e-9)


def test_what_changes_too_little_is_not_new():
    random = np.random.default_rng(0)
    base = random.integers(40, 90, (90, 160, 3)).astype(np.uint8)

    def scene(share, noise):
        frame = base.astype(np.int64) + noise.integers(-9, 10, base.shape)
        frame[:, : int(160 * share)] += 60
        return np.clip(frame, 0, 255).astype(np.uint8)

    newness = Newness(0.2)
    assert newness.is_new(scene(0, random))
    assert not any(newness.is_new(scene(0, random)) for _ in range(20)), "noise is nothing new"
    assert [newness.is_new(scene(share, random)) for share in (0.1, 0.15, 0.3, 0.35, 0.55)] == [
        False, False, True, False, True,
    ]  # fmt: skip
    with pytest.raises(ValueError, match="between 0 and 1"):
        Newness(1.5)
