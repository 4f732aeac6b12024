"""Points in polygons, against winding angles."""

import numpy as np
import pytest

from avocet.core.regions import inside


def winds_around(point, polygon):
    """Whether the corners go once around the point: the sum of the angles between them."""
    arms = np.asarray(polygon, dtype=float) - point
    following = np.roll(arms, -1, axis=0)
    crossed = arms[:, 0] * following[:, 1] - arms[:, 1] * following[:, 0]
    angles = np.arctan2(crossed, (arms * following).sum(axis=1))
    return abs(angles.sum()) > np.pi


@pytest.mark.parametrize("seed", range(40))
def test_against_winding_angles(seed):
    random = np.random.default_rng(seed)
    # Corners around a middle by rising angle: such a polygon does not meet itself.
    angles = np.sort(random.uniform(0, 2 * np.pi, int(random.integers(3, 12))))
    polygon = 50 + random.uniform(5, 50, (len(angles), 1)) * np.column_stack([np.cos(angles), np.sin(angles)])
    points = random.uniform(-10, 110, (200, 2))
    np.testing.assert_array_equal(inside(points, polygon), [winds_around(each, polygon) for each in points])


def test_a_polygon_with_a_notch_and_one_with_level_edges():
    notched = [[0, 0], [10, 0], [10, 10], [5, 3], [0, 10]]
    assert inside([[5, 2], [5, 6], [1, 6], [9, 6]], notched).tolist() == [True, False, True, True]
    assert inside(np.zeros((0, 2)), notched).shape == (0,)
    with pytest.raises(ValueError, match="three corners"):
        inside([[0, 0]], [[0, 0], [1, 1]])
