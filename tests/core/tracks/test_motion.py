"""How followed objects move, against the same told object by object, and by hand."""

import numpy as np
import pytest

from avocet.core.tracks.motion import CUT, KEPT_SIZE, RESIZED, STEADY, Motion


class Slow:
    """One object, edge by edge."""

    def __init__(self, box, frame):
        self.box, self.last, self.times_seen = list(box), frame, 1
        self.velocity, self.far, self.shift = [0.0, 0.0], [False, False], [0.0, 0.0]
        self.size = [box[2] - box[0], box[3] - box[1]]

    def see(self, box, frame):
        for axis in (0, 1):
            before, now = self.box[axis + 2] - self.box[axis], box[axis + 2] - box[axis]
            near, far = box[axis] - self.box[axis], box[axis + 2] - self.box[axis + 2]
            moved = (near + far) / 2
            if frame - self.last > 1:
                moved = self.velocity[axis]
            elif abs(now - before) > RESIZED * self.size[axis]:
                self.far[axis] = abs(far) > abs(near)
                moved = far if self.far[axis] else near
            share = STEADY if self.times_seen > 1 else 1.0
            self.velocity[axis] = share * moved + (1 - share) * self.velocity[axis]
            self.size[axis] = max(now, KEPT_SIZE * self.size[axis])
        self.box, self.last, self.shift = list(box), frame, [0.0, 0.0]
        self.times_seen += 1

    def wait(self, common):
        self.shift = [self.shift[a] + (self.velocity if common is None else common)[a] for a in (0, 1)]

    def whole(self):
        made = list(self.box)
        for axis in (0, 1):
            if self.box[axis + 2] - self.box[axis] < CUT * self.size[axis]:
                if self.far[axis]:
                    made[axis] = self.box[axis + 2] - self.size[axis]
                else:
                    made[axis + 2] = self.box[axis] + self.size[axis]
        return made

    def foreseen(self, frame):
        unseen = frame - self.last > 1
        start = self.whole() if unseen else self.box
        return [start[e] + self.velocity[e % 2] + (self.shift[e % 2] if unseen else 0) for e in range(4)]


@pytest.mark.parametrize("seed", range(20))
def test_columns_are_what_each_object_is_alone(seed):
    random = np.random.default_rng(seed)

    def some(count):
        corner = random.uniform(0, 100, (count, 2))
        return np.hstack([corner, corner + random.uniform(5, 30, (count, 2))])

    motion, alone = Motion(), []
    for frame in range(1, 15):
        rows = np.flatnonzero(random.random(len(alone)) < 0.6)
        boxes = some(len(rows))
        motion.see(rows, frame, boxes)
        for row, box in zip(rows, boxes, strict=True):
            alone[row].see(box.tolist(), frame)
        left = np.setdiff1d(np.arange(len(alone)), rows)
        common = random.normal(0, 3, 2) if random.random() < 0.5 else None
        motion.wait(left, common)
        for row in left:
            alone[row].wait(common)
        begun = some(int(random.integers(0, 3)))
        motion.begin(begun, frame)
        alone += [Slow(box.tolist(), frame) for box in begun]
        if random.random() < 0.3 and alone:
            stays = random.random(len(alone)) < 0.8
            motion.keep(stays)
            alone = [each for each, kept in zip(alone, stays, strict=True) if kept]
        assert motion.whole() == pytest.approx(np.array([each.whole() for each in alone]).reshape(-1, 4))
        expected = np.array([each.foreseen(frame + 1) for each in alone]).reshape(-1, 4)
        assert motion.foreseen(frame + 1) == pytest.approx(expected)


def test_what_goes_under_a_bridge_is_foreseen_behind_it():
    """20 wide, 4 a frame to the right; from 40 on the bridge hides what is there: only the left edge moves on."""
    motion = Motion()
    motion.begin(np.array([[12.0, 0, 32, 10]]), 0)
    for frame, (left, right) in enumerate([(16, 36), (20, 40), (24, 40), (28, 40)], start=1):
        motion.see(np.array([0]), frame, np.array([[left, 0.0, right, 10]]))
    assert motion.cut().tolist() == [[True, False]]
    assert motion.velocity[0] == pytest.approx([4, 0])
    assert motion.whole()[0] == pytest.approx([28, 0, 48, 10], abs=0.4)
    motion.wait(np.array([0]), None)
    assert motion.hidden()[0] == pytest.approx([32, 0, 52, 10], abs=0.4)
    assert motion.foreseen(6)[0] == pytest.approx([36, 0, 56, 10], abs=0.4)
