"""Levels: which answers for which size, and anchors level by level."""

import numpy as np
import pytest

from avocet.core.raw.levels import CELLS_ACROSS, LEAST_SHARE, cluster_by_level, levels_in_use, levels_of

STRIDES = (8, 16, 32)


def level_slowly(width, height):
    found = 0
    for number, stride in enumerate(STRIDES):
        if min(width, height) >= CELLS_ACROSS * stride:
            found = number
    return found


def test_levels_equal_the_definition():
    sizes = np.random.default_rng(0).uniform(2, 200, (500, 2))
    assert levels_of(sizes, STRIDES).tolist() == [level_slowly(*size) for size in sizes]


@pytest.mark.parametrize("seed", range(20))
def test_a_level_in_use_has_its_share_and_others_go_to_the_nearest(seed):
    random = np.random.default_rng(seed)
    centre = random.uniform(2, 6)
    sizes = np.exp(random.normal(centre, random.uniform(0.1, 1.5), (200, 2)))
    own, given = levels_of(sizes, STRIDES), levels_in_use(sizes, STRIDES)
    held = np.bincount(own, minlength=3)
    used = {number for number in range(3) if held[number] >= LEAST_SHARE * 200 or held[number] == held.max()}
    assert set(given.tolist()) == used
    for mine, theirs in zip(own, given, strict=True):
        assert abs(mine - theirs) == min(abs(mine - each) for each in used)
        if mine in used:
            assert mine == theirs


def test_anchors_lie_among_the_sizes_of_their_level():
    random = np.random.default_rng(1)
    sizes = np.exp(random.uniform(np.log(6), np.log(250), (600, 2)))
    anchors = cluster_by_level(sizes, STRIDES, 3, random)
    assert [len(each) for each in anchors] == [3, 3, 3]
    level = levels_of(sizes, STRIDES)
    for number, each in enumerate(anchors):
        shorter = sizes[level == number].min(axis=1)
        # A mean of widths and one of heights: never shorter than the shortest of its level.
        assert (each.min(axis=1) >= shorter.min() - 1e-9).all()


def test_small_objects_leave_coarse_levels_without_anchors():
    sizes = np.random.default_rng(2).uniform(10, 31, (50, 2))
    anchors = cluster_by_level(sizes, STRIDES, 3, np.random.default_rng(0))
    assert [len(each) for each in anchors] == [3, 0, 0]
    with pytest.raises(ValueError, match="at least one box"):
        cluster_by_level([], STRIDES, 3, np.random.default_rng(0))
