"""What following an object gave, told by few boxes."""

import numpy as np
import pytest

from avocet.core.boxes import iou_of_pairs
from avocet.core.tracks.carried import AWAY, GLIMPSE, Way, carried_on
from avocet.core.tracks.following import UNSURE, Followed
from avocet.core.tracks.trajectory import trajectory

SIZE = (400, 300)


def box_at(x, y=50.0, width=20.0):
    return np.array([x, y, x + width, y + 20.0])


def way_along(count, begin=100.0, step=2.0, seen=None, sureness=None, ended="there"):
    """Even motion to the right; ``seen`` and ``sureness`` tell of single steps."""
    seen, sureness = seen or {}, sureness or {}
    steps = [
        Followed(box_at(begin + step * (place + 1)), sureness.get(place, 0.9), seen.get(place, True))
        for place in range(count)
    ]
    return Way(steps, ended)


def carried(way, first=10, target=None, back=None, backwards=False, last=1000, least_iou=0.9, box=None):
    count = len(way.steps) + 1 if back is None else len(way.steps) + 2
    numbers = [first - place if backwards else first + place for place in range(count)]
    return carried_on(
        box_at(100.0) if box is None else box, numbers, way, SIZE, least_iou, last, target, back
    )


def test_even_motion_needs_its_ends():
    found = carried(way_along(30))
    assert found.frames.tolist() == [10, 40] and found.spans == [(10, 40)]
    assert found.boxes.tolist() == [box_at(100.0).tolist(), box_at(160.0).tolist()]
    assert (found.followed, found.ended, found.unsure) == (30, "there", [])


def test_backwards_gives_the_same_frames_rising():
    found = carried(way_along(8), first=20, backwards=True)
    assert found.frames.tolist() == [12, 20]
    assert (
        found.boxes[0].tolist() == box_at(116.0).tolist()
        and found.boxes[1].tolist() == box_at(100.0).tolist()
    )


def test_what_was_not_seen_at_the_end_is_left_out():
    found = carried(way_along(10, seen={8: False, 9: False}, ended="lost"))
    assert found.spans == [(10, 18)] and found.frames[-1] == 18
    assert (found.followed, found.ended) == (8, "lost")


def test_a_gap_parts_what_is_in_sight():
    found = carried(way_along(12, seen={4: False, 5: False}))
    assert found.spans == [(10, 14), (17, 22)]
    assert not {15, 16} & set(found.frames.tolist())


@pytest.mark.parametrize("length", range(1, GLIMPSE + 2))
def test_a_short_glimpse_is_not_believed(length):
    gone = {place: False for place in range(3, 14) if not 7 <= place < 7 + length}
    found = carried(way_along(20, seen=gone))
    glimpsed = (18, 17 + length) in found.spans
    assert glimpsed == (length >= GLIMPSE)
    assert (25, 30) in found.spans


def test_the_box_that_was_set_is_believed_however_short():
    found = carried(way_along(12, seen={0: False, 1: False}))
    assert found.spans[0] == (10, 10) and found.frames[0] == 10


@pytest.mark.parametrize("backwards", [False, True])
def test_the_place_to_look_at_is_the_slip_and_not_the_last_good_frame(backwards):
    """Least sure on its sixth step, right before it slides onto something alike that stands still."""
    xs = [*(100 + 6 * step for step in range(1, 7)), *[150.0] * 8]
    steps = [Followed(box_at(x), {5: 0.3, 6: 0.38}.get(place, 0.8), True) for place, x in enumerate(xs)]
    found = carried(Way(steps), first=40, backwards=backwards)
    assert found.unsure == [33 if backwards else 47]
    # Without a slip it is the worst place, and a leap is a place to look at though it was half sure all the time.
    even = [Followed(box_at(100 + 6 * step), {5: 0.3}.get(step, 0.8), True) for step in range(1, 15)]
    assert carried(Way(even), first=40).unsure == [45]
    leap = [Followed(box_at(x), {6: 0.5}.get(place, 0.8), True) for place, x in enumerate(xs)]
    assert carried(Way(leap), first=40).unsure == [47]


def test_each_unsure_stretch_is_looked_at_where_it_is_worst():
    low = {4: UNSURE - 0.05, 5: UNSURE - 0.3, 6: UNSURE - 0.1, 12: UNSURE - 0.01}
    found = carried(way_along(20, sureness=low))
    assert found.unsure == [16, 23]
    assert found.sureness == pytest.approx(UNSURE - 0.3, abs=1e-3)


def test_what_leaves_the_picture_explains_itself():
    low = {18: 0.2, 19: 0.1}
    assert carried(way_along(20, sureness=low, ended="left")).unsure == []
    assert carried(way_along(20, sureness=low, ended="lost")).unsure == [30]


def test_the_clip_ends_at_its_last_frame():
    assert carried(way_along(6), last=16).ended == "clip"
    assert carried(way_along(6), last=17).ended == "there"
    assert carried(way_along(6), first=6, backwards=True).ended == "clip"


def test_more_comes_into_sight_than_is_followed():
    """An object that the left edge cut: once its box lies in the picture, more of it is to be seen."""
    cut = np.array([0.0, 50, 12, 70])
    steps = [Followed(np.array([x, 50, x + 12, 70]), 0.9, True) for x in (1.0, AWAY - 1, AWAY + 1.0, 9.0)]
    assert carried(Way(steps), box=cut).unsure == [13]
    assert carried(Way(steps), box=cut + np.array([30, 0, 30, 0])).unsure == []


def returned_from(target_x, count, step=2.0, sureness=0.9):
    """The way back from a box, nearest first."""
    return Way([Followed(box_at(target_x - step * (place + 1)), sureness, True) for place in range(count)])


def test_ways_that_agree_meet_the_box_at_the_far_end():
    there, back = way_along(9), returned_from(120.0, 9)
    found = carried_on(box_at(100.0), list(range(10, 21)), there, SIZE, 0.9, 99, box_at(120.0), back)
    assert found.frames.tolist() == [10, 20] and found.unsure == [] and found.spans == [(10, 20)]
    assert found.boxes[-1].tolist() == box_at(120.0).tolist()


def test_each_way_counts_by_how_near_its_end_is():
    """Worked by hand: one way stands four pixels above the other; in the middle both count alike."""
    there = way_along(3, step=0.0)
    back = Way([Followed(box_at(100.0, 54.0), 0.9, True)] * 3)
    found = carried_on(box_at(100.0), [0, 1, 2, 3, 4], there, SIZE, 0.999, 99, box_at(100.0, 54.0), back)
    assert found.frames.tolist() == [0, 4]
    assert found.boxes[:, 1].tolist() == [50.0, 54.0]
    surer = Way([Followed(box_at(100.0, 54.0), 0.45, True)] * 3)
    found = carried_on(box_at(100.0), [0, 1, 2, 3, 4], there, SIZE, 0.999, 99, box_at(100.0, 54.0), surer)
    # On frame 2 both are as far from their ends: 2/3 of the first and 1/3 of the second.
    assert dict(zip(found.frames.tolist(), found.boxes[:, 1].tolist(), strict=True))[2] == pytest.approx(
        51.33
    )


def test_ways_that_disagree_are_to_be_looked_at():
    there, back = way_along(9), returned_from(300.0, 9)
    found = carried_on(box_at(100.0), list(range(10, 21)), there, SIZE, 0.9, 99, box_at(300.0), back)
    assert found.unsure and found.sureness == 0.0


def test_ways_that_do_not_reach_one_another_are_not_joined():
    there = way_along(3, ended="lost")
    found = carried_on(
        box_at(100.0), list(range(10, 31)), there, SIZE, 0.9, 99, box_at(140.0), returned_from(140.0, 2)
    )
    assert found.spans == [(10, 13)] and found.ended == "lost"


@pytest.mark.parametrize("seed", range(40))
def test_few_boxes_give_back_what_was_followed(seed):
    random = np.random.default_rng(seed)
    count = int(random.integers(1, 50))
    corners = np.cumsum(random.normal(0, 2, (count, 2)), axis=0) + 150
    boxes = np.hstack([corners, corners + random.uniform(20, 30, (count, 2))])
    seen = random.random(count) < 0.85
    steps = [
        Followed(box, float(sure), bool(flag))
        for box, sure, flag in zip(boxes, random.random(count), seen, strict=True)
    ]
    found = carried(Way(steps), box=np.array([150.0, 150, 175, 175]))
    first = np.array([[150.0, 150, 175, 175]])
    followed = np.vstack([first, boxes])
    in_sight = [frame for begin, end in found.spans for frame in range(begin, end + 1)]
    assert np.all(np.diff(found.frames) > 0) and set(found.frames) <= set(in_sight)
    assert set(found.unsure) <= set(in_sight)
    assert all(frame == 10 or seen[frame - 11] for frame in in_sight)
    assert all(end - begin + 1 >= GLIMPSE or begin == 10 for begin, end in found.spans)
    at = np.array(in_sight)
    # Boxes are set to hundredths of a pixel.
    given = trajectory(np.array(found.spans), found.boxes, found.frames).boxes_at(at)
    assert (iou_of_pairs(given, followed[at - 10]) > 0.9 - 0.002).all()
