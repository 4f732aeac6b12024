"""Counting across lines and inside regions: by hand, against a slow version, and on ways that tremble."""

import itertools

import numpy as np
import pytest

from avocet.core.tracks.crossing import CLEAR, Crossing, Stay, crossings, inside_by_frame, stays
from avocet.core.tracks.linking import Track

LINE = [[0, 100], [200, 100]]


def track(middles, frames=None, size=20.0):
    """A track of square boxes around middles."""
    middles = np.asarray(middles, dtype=float)
    boxes = np.hstack([middles - size / 2, middles + size / 2])
    places = np.arange(len(middles)) if frames is None else np.asarray(frames)
    return Track(0, places, boxes, np.ones(len(middles)), np.zeros(len(middles), int))


def test_by_hand():
    down = track([[50, 60], [50, 90], [50, 120], [50, 150]])
    up = track([[80, 150], [80, 40]], frames=[3, 9])
    past_the_end = track([[230, 60], [230, 140]])
    along = track([[10, 95], [100, 95], [190, 95]])
    assert crossings([down, up, past_the_end, along], LINE) == [Crossing(0, 2, True), Crossing(1, 9, False)]
    turned = crossings([down], LINE[::-1])
    assert turned == [Crossing(0, 2, False)], "drawn the other way, the sides are exchanged"


def test_where_the_way_meets_the_line_decides_and_not_where_it_ends():
    slanted = track([[150, 60], [250, 160]])
    assert crossings([slanted], LINE) == [Crossing(0, 1, True)], "it meets the line at 190"
    assert crossings([track([[180, 60], [280, 160]])], LINE) == [], "and here at 220"


def test_what_trembles_on_the_line_crosses_it_once():
    random = np.random.default_rng(4)
    still = np.linspace(80, 120, 60) + random.normal(0, 0.4, 60)
    assert len(crossings([track(np.column_stack([np.full(60, 50), still]))], LINE)) == 1
    stays_on_it = 100 + random.normal(0, 0.3, 200)
    assert crossings([track(np.column_stack([np.full(200, 50), stays_on_it]))], LINE) == []


def test_where_the_clip_begins_or_ends_the_middle_decides():
    """Not clear of the line yet, by less than the twentieth part of its diagonal."""
    ends = track([[50, 60], [50, 90], [50, 100.6]])
    begins = track([[80, 99.5], [80, 110], [80, 140]])
    only_touches = track([[110, 60], [110, 99.4]])
    back_at_the_end = track([[140, 60], [140, 130], [140, 99.5]])
    found = crossings([ends, begins, only_touches, back_at_the_end], LINE)
    assert found == [
        Crossing(1, 1, True), Crossing(3, 1, True), Crossing(0, 2, True), Crossing(3, 2, False),
    ]  # fmt: skip


def test_there_and_back_is_two():
    there_and_back = track([[50, 60], [50, 140], [50, 60]])
    assert [each.forward for each in crossings([there_and_back], LINE)] == [True, False]


def clear_somewhere(one, line):
    (ax, ay), (bx, by) = line
    length = np.hypot(bx - ax, by - ay)
    return any(
        abs((bx - ax) * ((y1 + y2) / 2 - ay) - (by - ay) * ((x1 + x2) / 2 - ax)) / length
        > CLEAR * np.hypot(x2 - x1, y2 - y1)
        for x1, y1, x2, y2 in one.boxes
    )


def slow_crossings(tracks, line):
    """Walk along each way; where it comes clear on another side, find the last meeting point in between."""
    (ax, ay), (bx, by) = line
    length = np.hypot(bx - ax, by - ay)
    found = []
    for number, each in enumerate(tracks):
        last, way = 0, []
        for place, (frame, (x1, y1, x2, y2)) in enumerate(zip(each.frames, each.boxes, strict=True)):
            x, y = (x1 + x2) / 2, (y1 + y2) / 2
            distance = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / length
            way.append((x, y, distance))
            margin = CLEAR * np.hypot(x2 - x1, y2 - y1)
            side = 1 if distance > margin else -1 if distance < -margin else 0
            if not side and place in (0, len(each.boxes) - 1) and clear_somewhere(each, line):
                side = int(np.sign(distance))
            if side and last and side != last:
                for (px, py, p), (qx, qy, q) in reversed(list(itertools.pairwise(way))):
                    if np.sign(p) != np.sign(q):
                        share = p / (p - q)
                        mx, my = px + share * (qx - px), py + share * (qy - py)
                        break
                at = ((mx - ax) * (bx - ax) + (my - ay) * (by - ay)) / length**2
                if 0 <= at <= 1:
                    found.append(Crossing(number, int(frame), side > 0))
            if side:
                last, way = side, way[-1:]
    return sorted(found, key=lambda each: (each.frame, each.track))


@pytest.mark.parametrize("seed", range(60))
def test_against_the_slow_version(seed):
    random = np.random.default_rng(seed)
    tracks = []
    for _ in range(int(random.integers(1, 6))):
        steps = random.normal(0, 25, (int(random.integers(2, 60)), 2))
        frames = np.cumsum(random.integers(1, 4, len(steps)))
        tracks.append(
            track(random.uniform(0, 200, 2) + np.cumsum(steps, axis=0), frames, random.uniform(5, 60))
        )
    line = random.uniform(0, 200, (2, 2))
    assert crossings(tracks, line) == slow_crossings(tracks, line)


def test_a_line_without_length_is_refused():
    with pytest.raises(ValueError, match="no length"):
        crossings([track([[0, 0], [1, 1]])], [[5, 5], [5, 5]])


def test_stays_begin_and_end_where_it_is_seen_inside():
    region = [[40, 40], [160, 40], [160, 160], [40, 160]]
    through = track([[100, y] for y in range(0, 200, 20)])
    twice = track([[100, 20], [100, 60], [100, 20], [100, 60], [100, 80]], frames=[0, 2, 3, 7, 8])
    never = track([[10, 10], [20, 20]])
    found = stays([through, twice, never], region)
    # Its middle lies on the upper edge at frame 2 and on the lower at frame 8.
    assert [each for each in found if each.track == 1] == [Stay(1, 2, 2), Stay(1, 7, 8)]
    (whole,) = (each for each in found if each.track == 0)
    assert whole.first in (2, 3) and whole.last in (7, 8)
    counts = inside_by_frame(found, 12)
    for frame in range(12):
        assert counts[frame] == sum(each.first <= frame <= each.last for each in found)
