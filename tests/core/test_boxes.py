import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from avocet.core import boxes as bx
from tests.core.slow import iou_of_two

box_arrays = arrays(
    np.float64, st.tuples(st.integers(0, 8), st.just(4)), elements=st.floats(-500, 500, width=32)
)


def upright(array):
    """Turn any four numbers into a box."""
    return np.concatenate(
        [np.minimum(array[:, :2], array[:, 2:]), np.maximum(array[:, :2], array[:, 2:])], axis=1
    )


@given(box_arrays)
def test_conversions_come_back(array):
    array = upright(array)
    np.testing.assert_allclose(bx.from_corner_size(bx.to_corner_size(array)), array, atol=1e-9)
    np.testing.assert_allclose(bx.from_centre_size(bx.to_centre_size(array)), array, atol=1e-9)


@given(box_arrays, box_arrays, st.booleans())
def test_iou_equals_the_definition(first, second, crowded):
    first, second = upright(first), upright(second)
    crowd = [crowded] * len(second)
    expected = np.array([[iou_of_two(a, b, crowded) for b in second] for a in first]).reshape(
        len(first), len(second)
    )
    np.testing.assert_allclose(bx.iou(first, second, crowd), expected, atol=1e-12)


def test_iou_by_hand():
    # 10×10 and 10×10 shifted by 5 in x: 50 shared of 150.
    assert bx.iou([[0, 0, 10, 10]], [[5, 0, 15, 10]])[0, 0] == pytest.approx(1 / 3)


def test_box_turned_inside_out_has_no_area_and_no_overlap():
    assert bx.area([[5, 5, 0, 0]])[0] == 0
    assert bx.iou([[5, 5, 0, 0]], [[0, 0, 10, 10]])[0, 0] == 0


def test_wrong_shape_is_refused():
    with pytest.raises(ValueError, match=r"\(N, 4\)"):
        bx.as_boxes([[1, 2, 3]])


@given(
    arrays(np.float64, (5, 2), elements=st.floats(1, 500)),
    arrays(np.float64, (3, 2), elements=st.floats(1, 500)),
)
def test_co_centred_iou_is_iou_of_boxes_on_one_centre(first, second):
    zero = np.zeros_like(first)
    expected = bx.iou(
        bx.from_centre_size(np.hstack([zero, first])),
        bx.from_centre_size(np.hstack([np.zeros_like(second), second])),
    )
    np.testing.assert_allclose(bx.co_centred_iou(first, second), expected, atol=1e-9)
