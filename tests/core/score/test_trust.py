"""Calibration and the paired bootstrap."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.score.bootstrap import resample
from avocet.core.score.calibration import reliability
from avocet.core.score.measurement import match_pictures
from avocet.core.score.paired import difference


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


def scenes(generator, pictures, chance):
    """Pictures of one object each that is found with a chance."""
    truths, found = [], []
    for _ in range(pictures):
        truths.append(PictureTruth([[0, 0, 10, 10]], [0]))
        place = 0 if generator.random() < chance else 50
        found.append(PictureDetections([[place, 0, place + 10, 10]], [generator.uniform(0.5, 1)], [0]))
    return truths, found


def compared(first, second, seed=0):
    resampled, measured = [], []
    for truths, found in (first, second):
        matched = match_pictures(truths, found, [0], [0.5])
        resampled.append(resample(matched, np.random.default_rng(seed), 400).mean())
        measured.append(float(resample(matched, np.random.default_rng(seed), 1).mean()[0]))
    return resampled, measured


def test_a_clear_difference_is_more_than_chance_and_none_is_not():
    generator = np.random.default_rng(1)
    weak, strong = scenes(generator, 80, 0.5), scenes(generator, 80, 0.95)
    (first, second), (a, b) = compared(weak, strong)
    better = difference(first, second, a, b)
    assert better.more_than_chance and better.low > 0 and better.better > 0.99
    worse = difference(second, first, b, a)
    assert worse.more_than_chance and worse.high < 0
    same = difference(first, first, a, a)
    assert not same.more_than_chance and same.amount == 0 == same.low == same.high and same.better == 0.5


def test_pairing_is_surer_than_two_intervals():
    """Two models that fail on the same pictures differ by less than either wavers."""
    generator = np.random.default_rng(2)
    first = scenes(generator, 100, 0.7)
    second = (
        first[0],
        [*first[1][:97], *(PictureDetections([[0, 0, 10, 10]], [0.9], [0]) for _ in range(3))],
    )
    (one, two), (a, b) = compared(first, second)
    paired = difference(one, two, a, b)
    assert paired.high - paired.low < 0.5 * np.ptp(np.percentile(one, [2.5, 97.5]))


def test_resamples_that_do_not_pair_are_refused():
    with pytest.raises(ValueError, match="cannot be paired"):
        difference(np.zeros(3), np.zeros(4), 0, 0)
    assert np.isnan(difference(np.full(3, np.nan), np.zeros(3), np.nan, 0.5).low)
