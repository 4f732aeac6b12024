"""How far scores may be trusted."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.score.calibration import reliability


@given(st.lists(st.tuples(st.floats(0, 1), st.booleans()), max_size=40), st.integers(1, 12))
def test_reliability_equals_the_definition(said, bins):
    found = reliability([each[0] for each in said], [each[1] for each in said], bins)
    total = 0.0
    for number in range(bins):
        low, high = number / bins, (number + 1) / bins
        inside = [
            each for each in said
            if (low + 1e-12 / bins < each[0] <= high + 1e-12 / bins) or (number == 0 and each[0] <= 1e-12 / bins)
        ]  # fmt: skip
        assert found.counts[number] == len(inside)
        if inside:
            mean, share = np.mean([each[0] for each in inside]), np.mean([each[1] for each in inside])
            assert found.mean_score[number] == pytest.approx(mean)
            assert found.share_right[number] == pytest.approx(share)
            total += abs(mean - share) * len(inside)
    if said:
        assert found.expected_error == pytest.approx(total / len(said))
    else:
        assert np.isnan(found.expected_error)


def test_reliability_refuses_what_is_no_score():
    with pytest.raises(ValueError, match="outside 0 to 1"):
        reliability([1.2], [True])
