import numpy as np
import pytest

from avocet.core.raw.decode import decode
from tests.core.slow import decode_slowly


@pytest.mark.parametrize("reach", [1.0, 2.0])
@pytest.mark.parametrize("seed", range(5))
def test_equals_one_cell_after_the_other(seed, reach):
    random = np.random.default_rng(seed)
    anchors = [random.uniform(5, 90, (3, 2)) for _ in range(3)]
    levels = [random.normal(0, 1.5, (3, 5 + 4, rows, columns)) for rows, columns in ((4, 6), (2, 3), (1, 2))]
    decoded = decode(levels, anchors, (8, 16, 32), reach)
    expected = decode_slowly(levels, anchors, (8, 16, 32), reach)
    np.testing.assert_array_equal(decoded.origin, [row[3] for row in expected])
    np.testing.assert_allclose(decoded.boxes, [row[0] for row in expected], atol=1e-9)
    np.testing.assert_allclose(decoded.objectness, [row[1] for row in expected])
    np.testing.assert_allclose(decoded.class_probabilities, [row[2] for row in expected])


def test_by_hand():
    # Cell (row 1, column 2), stride 16, t = 0 except t_w = ln 2: the width doubles.
    raw = np.full((1, 6, 2, 3), -50.0)
    raw[0, :, 1, 2] = [0, 0, np.log(2), 0, 50, 50]
    decoded = decode([raw], [[[10, 20]]], [16], minimum_objectness=0.5)
    np.testing.assert_allclose(decoded.boxes, [[40 - 10, 24 - 10, 40 + 10, 24 + 10]])
    np.testing.assert_allclose(decoded.scores, [[1.0]])
    assert decoded.origin.tolist() == [[0, 1, 2, 0]]


def test_reach_two_lets_a_cell_answer_for_its_neighbour():
    raw = np.zeros((1, 6, 1, 2))
    raw[0, 0, 0, 0] = 50.0  # σ = 1: the right end of the reach
    assert decode([raw], [[[2, 2]]], [8], reach=1.0).boxes[0, 0] == pytest.approx(8 - 1)
    assert decode([raw], [[[2, 2]]], [8], reach=2.0).boxes[0, 0] == pytest.approx(12 - 1)


def test_filter_equals_filtering_afterwards():
    random = np.random.default_rng(1)
    raw = random.normal(0, 2, (3, 7, 5, 5))
    anchors = random.uniform(5, 50, (3, 2))
    everything, some = decode([raw], [anchors], [8]), decode([raw], [anchors], [8], minimum_objectness=0.6)
    np.testing.assert_array_equal(some.boxes, everything.boxes[everything.objectness >= 0.6])


def test_mismatched_parts_are_refused():
    with pytest.raises(ValueError, match="do not match"):
        decode([np.zeros((1, 6, 1, 1))], [], [8])
    with pytest.raises(ValueError, match="level 0"):
        decode([np.zeros((2, 6, 1, 1))], [[[1, 1]]], [8])


def test_untrained_network_cannot_overflow():
    raw = np.full((1, 6, 1, 1), 1e6)
    assert np.isfinite(decode([raw], [[[10, 10]]], [8]).boxes).all()
