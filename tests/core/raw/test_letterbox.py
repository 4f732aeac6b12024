import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.raw.letterbox import letterbox

sides = st.sampled_from([96, 320, 416, 640])


@given(st.integers(8, 6000), st.integers(8, 6000), sides, st.booleans())
def test_boxes_come_back_and_the_picture_fits(width, height, side, square):
    box = letterbox(width, height, side, square=square)
    assert box.left >= 0 and box.top >= 0
    assert box.left + box.width <= box.input_width <= side
    assert box.top + box.height <= box.input_height <= side
    assert box.input_width % 32 == box.input_height % 32 == 0
    corners = np.array([[0, 0, width, height], [width / 3, height / 4, width / 2, height / 2]])
    np.testing.assert_allclose(box.to_picture(box.to_input(corners)), corners, atol=1e-6)
    np.testing.assert_allclose(
        box.to_input(corners)[0], [box.left, box.top, box.left + box.width, box.top + box.height], atol=1e-6
    )


def test_by_hand():
    # 960×540 to 416: scale 416/960, 234 high, padded to 256: 11 above and below.
    box = letterbox(960, 540, 416)
    assert (box.width, box.height, box.left, box.top) == (416, 234, 0, 11)
    np.testing.assert_allclose(box.to_input([[480, 270, 960, 540]]), [[208, 128, 416, 245]])


@pytest.mark.parametrize("arguments", [(0, 10, 416), (10, 10, 400), (10, 10, 0)])
def test_impossible_sizes_are_refused(arguments):
    with pytest.raises(ValueError):
        letterbox(*arguments)
