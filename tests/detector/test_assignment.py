import numpy as np
import pytest

from avocet.core.boxes import co_centred_iou
from avocet.detector.training.assignment import assign

ANCHORS = np.array(
    [[[10, 10], [14, 20], [24, 14]], [[30, 30], [50, 40], [40, 60]], [[80, 80], [120, 90], [100, 140]]], float
)
STRIDES, GRIDS = (8, 16, 32), [(16, 24), (8, 12), (4, 6)]


def assign_slowly(pictures, boxes, classes, enough):
    """Place by place: who wants it, and who fits its anchor best (the later truth wins a tie)."""
    wishes = {}
    for truth, (picture, (x1, y1, x2, y2)) in enumerate(zip(pictures, boxes, strict=True)):
        size, x, y = (x2 - x1, y2 - y1), (x1 + x2) / 2, (y1 + y2) / 2
        fits = co_centred_iou([size], ANCHORS.reshape(-1, 2))[0]
        for number, fit in enumerate(fits):
            if fit < enough and number != int(np.argmax(fits)):
                continue
            level, anchor = divmod(number, 3)
            column, row = x / STRIDES[level], y / STRIDES[level]
            across = -1 if column % 1 < 0.5 else 1
            down = -1 if row % 1 < 0.5 else 1
            for c, r in ((0, 0), (across, 0), (0, down)):
                place = (level, int(picture), anchor, int(row) + r, int(column) + c)
                rows, columns = GRIDS[level]
                if 0 <= place[3] < rows and 0 <= place[4] < columns:
                    wishes.setdefault(place, []).append((fit, truth))
    return {place: classes[max(wanted)[1]] for place, wanted in wishes.items()}


@pytest.mark.parametrize("seed", range(20))
def test_equals_place_by_place(seed):
    random = np.random.default_rng(seed)
    count = int(random.integers(0, 15))
    size, centre = random.uniform(6, 130, (count, 2)), random.uniform(0, 1, (count, 2)) * (192, 128)
    boxes = np.hstack([centre - size / 2, centre + size / 2])
    pictures, classes = random.integers(0, 2, count), np.arange(count)
    levels = assign(pictures, boxes, classes, ANCHORS, STRIDES, GRIDS, 0.45)
    found = {}
    for level, targets in enumerate(levels):
        for row in zip(
            targets.picture, targets.anchor, targets.row, targets.column, targets.classes, strict=True
        ):
            place = (level, *map(int, row[:4]))
            assert place not in found
            found[place] = int(row[4])
    assert found == assign_slowly(pictures, boxes, classes, 0.45)


def test_an_odd_shape_still_gets_its_best_anchor():
    # 1×4 fits no anchor well; centre (60.5, 62) lies in cell (7, 7), nearer to column 8 and row 8.
    first, second, third = assign([0], [[60, 60, 61, 64]], [3], ANCHORS, STRIDES, GRIDS)
    assert {tuple(map(int, place)) for place in zip(first.row, first.column, strict=True)} == {
        (7, 7),
        (7, 8),
        (8, 7),
    }
    assert (first.anchor == 0).all() and (first.classes == 3).all()
    assert len(second.row) == len(third.row) == 0
