"""Covered copies: nothing of what was found is left, everything else is."""

import numpy as np
import pytest

from avocet.media.covering import BLOCKS, cover_boxes

PICTURE = np.random.default_rng(1).integers(0, 256, (60, 90, 3), dtype=np.uint8)


@pytest.mark.parametrize("how", ["blurred", "pixelated", "filled"])
def test_only_what_a_box_touches_changes(how):
    covered = cover_boxes(PICTURE, [[10.4, 5.6, 40.2, 44.9], [80, 50, 200, 99]], how)
    touched = np.zeros((60, 90), bool)
    touched[5:45, 10:41] = touched[50:60, 80:90] = True
    np.testing.assert_array_equal(covered[~touched], PICTURE[~touched])
    assert (covered[touched] != PICTURE[touched]).any(axis=1).mean() > 0.95
    assert covered is not PICTURE and cover_boxes(PICTURE, [], how).tolist() == PICTURE.tolist()


def test_nothing_that_could_be_read_is_left():
    """Stripes of a few pixels, such as letters are made of, are gone: neighbours hardly differ any more."""
    stripes = np.zeros((80, 80, 3), np.uint8)
    stripes[:, ::4] = 255
    for how in ("blurred", "pixelated"):
        covered = cover_boxes(stripes, [[0, 0, 80, 80]], how)[20:60, 20:60].astype(int)
        assert np.ptp(covered) < 60, "of 255 before"
    blocks = cover_boxes(PICTURE, [[0, 0, 60, 60]], "pixelated")[:60, :60]
    assert len(np.unique(blocks.reshape(-1, 3), axis=0)) <= BLOCKS**2


def test_boxes_outside_and_without_area_cover_nothing():
    np.testing.assert_array_equal(
        cover_boxes(PICTURE, [[-30, -30, -5, -5], [200, 0, 210, 5]], "filled"), PICTURE
    )
