import numpy as np
import pytest

from avocet.core.boxes import co_centred_iou
from avocet.detector.targets.assignment import assign
from tests.core.slow import iou_of_two

ANCHORS = [
    np.array([[10, 10], [14, 20], [24, 14], [12, 18]], float),
    np.zeros((0, 2)),
    np.array([[80, 80], [120, 90]], float),
]
OWNERS = [(level, anchor) for level, sizes in enumerate(ANCHORS) for anchor in range(len(sizes))]
STRIDES, GRIDS = (8, 16, 32), [(16, 24), (8, 12), (4, 6)]


def assign_slowly(pictures, boxes, classes, enough):
    """Place by place: who wants it, and who fits its anchor best (the later truth wins a tie)."""
    wishes = {}
    for truth, (picture, (x1, y1, x2, y2)) in enumerate(zip(pictures, boxes, strict=True)):
        size, x, y = (x2 - x1, y2 - y1), (x1 + x2) / 2, (y1 + y2) / 2
        fits = co_centred_iou([size], np.concatenate(ANCHORS))[0]
        for number, fit in enumerate(fits):
            if fit < enough and number != int(np.argmax(fits)):
                continue
            level, anchor = OWNERS[number]
            stride, (rows, columns) = STRIDES[level], GRIDS[level]
            for row in range(rows):
                for column in range(columns):
                    middle = (column + 0.5) * stride, (row + 0.5) * stride
                    own = int(x // stride) == column and int(y // stride) == row
                    reached = abs(middle[0] - x) < stride and abs(middle[1] - y) < stride
                    at_middle = np.array([middle[0], middle[1], middle[0], middle[1]])
                    laid = at_middle + np.array([-size[0], -size[1], size[0], size[1]]) / 2
                    if not own and not (reached and iou_of_two(laid, (x1, y1, x2, y2)) >= 0.5):
                        continue
                    place = (level, int(picture), anchor, row, column)
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
    # 1×4 fits no anchor well; centre (60.5, 62) lies in cell (7, 7); no neighbour's middle is within it.
    first, second, third = assign([0], [[60, 60, 61, 64]], [3], ANCHORS, STRIDES, GRIDS)
    assert [tuple(map(int, place)) for place in zip(first.row, first.column, strict=True)] == [(7, 7)]
    assert (first.anchor == 0).all() and (first.classes == 3).all()
    assert len(second.row) == len(third.row) == 0
