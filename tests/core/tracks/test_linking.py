"""Linking, against every way of pairing, and on objects whose identity is known."""

import itertools
import json
import zipfile
from importlib import resources

import numpy as np
import pytest

from avocet.core.boxes import iou
from avocet.core.detections import PictureDetections
from avocet.core.tracks.crossing import crossings
from avocet.core.tracks.linking import LEAST_IOU, LEAST_SEEN, NEAR, OTHER_CLASS, _paired, link
from avocet.demo import belt
from avocet.demo.goods import NAMES
from avocet.demo.project import FIRST_SEED
from tests.core.slow import iou_of_two


def cost_of(box, kind, found, place):
    """What linking a track with a detection costs, or None where they cannot be the same."""
    other = found.boxes[place]
    middles = [((each[0] + each[2]) / 2, (each[1] + each[3]) / 2) for each in (box, other)]
    gap = np.hypot(middles[0][0] - middles[1][0], middles[0][1] - middles[1][1])
    apart = gap / np.hypot(other[2] - other[0], other[3] - other[1])
    overlap = iou_of_two(box, other)
    if overlap < LEAST_IOU and apart > NEAR:
        return None
    return 1 - overlap + apart + OTHER_CLASS * (kind != found.classes[place])


@pytest.mark.parametrize("seed", range(40))
def test_pairs_are_the_cheapest_of_all_ways(seed):
    random = np.random.default_rng(seed)
    tracks, many = int(random.integers(1, 5)), int(random.integers(1, 5))
    corners = random.uniform(0, 40, (tracks + many, 2))
    boxes = np.hstack([corners, corners + random.uniform(15, 30, (tracks + many, 2))])
    kinds = random.integers(0, 2, tracks + many)
    found = PictureDetections(boxes[tracks:], random.random(many), kinds[tracks:])
    made = _paired(boxes[:tracks], kinds[:tracks], found, np.arange(many)).tolist()
    costs = [[cost_of(boxes[t], kinds[t], found, d) for d in range(many)] for t in range(tracks)]

    def total(pairs):
        return -len(pairs), sum(costs[t][d] for t, d in pairs)

    ways = [()]
    for count in range(1, min(tracks, many) + 1):
        for some in itertools.combinations(range(tracks), count):
            ways += [
                tuple(zip(some, order, strict=True)) for order in itertools.permutations(range(many), count)
            ]
    possible = [way for way in ways if all(costs[t][d] is not None for t, d in way)]
    best = min(possible, key=total)
    assert total(made) == pytest.approx(total(best))


def scene(seed, frames=120, objects=14, lost=0.08, weak=0.1, covered=8, alarms=0.05):
    """Goods that cross each other's way; each is covered for a while, and some are lost or weak on single frames."""
    random = np.random.default_rng(seed)
    start = np.column_stack([random.uniform(50, 900, objects), random.uniform(-500, 400, objects)])
    speed = np.column_stack([random.uniform(-3, 3, objects), random.uniform(4, 8, objects)])
    size, kinds = random.uniform(60, 110, (objects, 2)), random.integers(0, 3, objects)
    hidden = random.integers(20, frames - 20, objects)
    made, who = [], []
    for frame in range(frames):
        middle = start + speed * frame
        seen = (middle[:, 1] > 40) & (middle[:, 1] < 500) & (random.random(objects) > lost)
        seen &= (frame < hidden) | (frame >= hidden + covered)
        place = np.flatnonzero(seen)
        boxes = np.hstack([middle - size / 2, middle + size / 2])[place] + random.normal(
            0, 1.5, (len(place), 4)
        )
        scores = np.where(random.random(len(place)) < weak, 0.3, random.uniform(0.6, 1, len(place)))
        owner, labels = place, kinds[place]
        if random.random() < alarms:
            corner = random.uniform(0, 400, 2)
            boxes = np.vstack([boxes, [*corner, *(corner + 70)]])
            scores, owner, labels = np.append(scores, 0.7), np.append(owner, -1), np.append(labels, 0)
        made.append(PictureDetections(boxes, scores, labels))
        who.append(owner)
    return made, who, objects


@pytest.mark.parametrize("seed", range(6))
def test_every_object_is_one_track(seed):
    frames, who, _ = scene(seed)
    tracks = link(frames, sure=0.5)
    owners = [[int(who[f][p]) for f, p in zip(t.frames, t.places, strict=True)] for t in tracks]
    switches = sum(a != b for each in owners for a, b in itertools.pairwise(each))
    seen = {each for each in np.concatenate(who).tolist() if each >= 0}
    seen = {each for each in seen if sum(each in list(some) for some in who) >= 5}
    assert switches <= 1, f"{switches} links from one object to another"
    held = [max(set(each), key=each.count) for each in owners]
    assert all(each >= 0 for each in held), "a flicker is no object"
    assert seen <= set(held) and len(held) <= len(seen) + 2, f"{len(held)} tracks of {len(seen)} objects"


def test_weak_boxes_carry_on_but_do_not_begin():
    weak = [PictureDetections([[n, 0, n + 20, 20]], [0.3], [0]) for n in range(6)]
    assert link(weak, sure=0.5) == []
    begun = [PictureDetections([[0, 0, 20, 20]], [0.9], [0]), *weak]
    assert [each.frames.tolist() for each in link(begun, sure=0.5)] == [list(range(7))]
    assert len(link(begun, sure=[0.95])) == 0 and len(link(weak, sure=[0.2])) == 1


def test_one_that_stays_away_too_long_is_another():
    box = PictureDetections([[0, 0, 20, 20]], [0.9], [0])
    nothing = PictureDetections([], [], [])
    for away, objects in ((4, 1), (5, 2)):
        frames = [box] * LEAST_SEEN + [nothing] * away + [box] * LEAST_SEEN
        assert len(link(frames, sure=0.5, patience=5)) == objects
    assert link([], 0.5) == [] and link([nothing] * 4, 0.5) == []


@pytest.mark.slow
def test_objects_of_the_demos_clip(monkeypatch):
    """What comes with the demo: as many objects of each class as there are goods that come into the picture."""
    shipped = resources.files("avocet.demo") / "found.zip"
    with zipfile.ZipFile(str(shipped)) as archive:
        held = json.loads(archive.read("detections/0/detections.json"))
    frames = [
        PictureDetections(
            [row["box"] for row in each["detections"]],
            [row["score"] for row in each["detections"]],
            [NAMES.index(row["class"]) for row in each["detections"]],
        )
        for each in held["pictures"]
    ]
    tracks = link(frames, sure=0.5)
    monkeypatch.setattr(belt, "LEAST_VISIBLE", 0.0)
    moving = belt.MovingBelt(FIRST_SEED - 1, len(frames))
    goods = moving._goods
    lying = np.array([[g.x, g.y, g.x, g.y] for g in goods]) + np.array(
        [[-g.tile.width / 2, -g.tile.height / 2, g.tile.width / 2, g.tile.height / 2] for g in goods]
    )
    whose = []
    for track in tracks:
        votes = np.zeros(len(goods))
        for frame, box in zip(track.frames, track.boxes, strict=True):
            moved = lying + np.array([0, 6.0 * frame, 0, 6.0 * frame])
            votes[int(iou([box], np.clip(moved, 0, [960, 540, 960, 540]))[0].argmax())] += 1
        assert votes.max() == votes.sum(), "a track holds one good from first sight to last"
        whose.append(int(votes.argmax()))
    assert len(set(whose)) == len(whose), "and no good is held by two"
    assert [NAMES[track.kind] for track in tracks] == [goods[each].name for each in whose]
    # Goods of which half is in the picture on at least as many frames as an object needs.
    shown = [
        sum(min(bottom, 540) - max(top, 0) >= 0.5 * (bottom - top) for top, bottom in zip(
            lying[number, 1] + 6.0 * np.arange(len(frames)), lying[number, 3] + 6.0 * np.arange(len(frames)), strict=True
        ))
        for number in range(len(goods))
    ]  # fmt: skip
    assert {number for number, count in enumerate(shown) if count >= LEAST_SEEN} <= set(whose)

    # Across the middle of the belt, from above to below: as many of each class as truly go over it.
    over = crossings(tracks, [[0, 270], [960, 270]])
    middle = (lying[:, 1] + lying[:, 3]) / 2
    at_the_end = middle + 6.0 * (len(frames) - 1)
    truly = [good.name for good, y0, y1 in zip(goods, middle, at_the_end, strict=True) if y0 < 270 < y1]
    assert sorted(NAMES[tracks[each.track].kind] for each in over) == sorted(truly) and len(truly) > 10
    assert all(each.forward for each in over)
    for each in over:
        # It counts once it is clearly over: within a few frames of where the good truly is.
        truth = (270 - middle[whose[each.track]]) / 6.0
        assert truth - 1 <= each.frame <= truth + 3


@pytest.mark.parametrize("pace", ["even", "changing"])
@pytest.mark.parametrize("seed", range(5))
def test_what_goes_under_a_bridge_comes_out_as_the_same(seed, pace):
    """Of a good half hidden the part above is seen, the part below, or both; each stays one object."""
    random = np.random.default_rng(seed)
    top, bottom, frames = 250, 300, 170
    speed = np.full(frames, 6.0) if pace == "even" else 6 + 3 * np.sin(np.arange(frames) / 9)
    travel = np.cumsum(speed)
    lanes = np.repeat(np.arange(5), 2)
    start = np.column_stack([90 + 180 * lanes, np.tile([-60.0, -420.0], 5) - random.uniform(0, 120, 10)])
    size, kinds = random.uniform(70, 110, (10, 2)), random.integers(0, 4, 10)
    made, who = [], []
    for frame in range(frames):
        boxes, owners = [], []
        for number in range(10):
            middle = start[number] + [0, travel[frame]]
            x1, y1, x2, y2 = *(middle - size[number] / 2), *(middle + size[number] / 2)
            for low, high in ((max(y1, 0), min(y2, top)), (max(y1, bottom), min(y2, 540))):
                if high - low > 0.25 * size[number, 1]:
                    boxes.append(np.array([x1, low, x2, high]) + random.normal(0, 1, 4))
                    owners.append(number)
        found = np.array(boxes).reshape(-1, 4)
        made.append(
            PictureDetections(found, np.full(len(found), 0.9), kinds[owners] if owners else np.zeros(0, int))
        )
        who.append(owners)
    tracks = link(made, sure=0.5)
    held = [{who[f][p] for f, p in zip(t.frames, t.places, strict=True)} for t in tracks]
    seen = {number for owners in who for number in owners}
    assert all(len(each) == 1 for each in held), "one object was taken for another"
    assert sorted(min(each) for each in held) == sorted(seen), "each is one object, and counted once"
