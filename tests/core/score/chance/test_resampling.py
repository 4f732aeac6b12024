"""The Bayesian bootstrap: its draws against the slow version, and whether its intervals hold."""

from fractions import Fraction

import numpy as np
import pytest
from bench.populations import POPULATIONS, draw, true_precision
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.score.chance.resampling import LEAST_PICTURES, resample, weighted_precision
from avocet.core.score.measurement import match_pictures, sum_up
from avocet.core.score.precision import COCO_THRESHOLDS, average_precision
from avocet.core.score.recalls import points_reached
from tests.conftest import examples
from tests.core.score.test_precision import pictures, random_scene
from tests.core.slow import weighted_precision_slowly


class Chosen:
    """A generator that gives the weights it was told, for one resample."""

    def __init__(self, weights):
        self.weights = np.asarray(weights, float)[:, None]

    def exponential(self, _, shape):
        assert shape == self.weights.shape
        return self.weights.copy()

    def gamma(self, _, __, shape):
        return np.zeros(shape)


@examples(60)
@given(st.data(), st.lists(pictures(classes=2), min_size=1, max_size=4))
def test_weighted_pictures_measure_as_the_definition_says(data, scene):
    weights = np.array(
        data.draw(st.lists(st.integers(1, 5), min_size=len(scene), max_size=len(scene))), float
    )
    weights *= len(scene) / weights.sum()
    truths, found = [each[0] for each in scene], [each[1] for each in scene]
    matched = match_pictures(truths, found, [0, 1], [0.5, 0.75])
    drawn = resample(matched, Chosen(weights), 1).average_precision
    for kind in (0, 1):
        for level, threshold in enumerate((0.5, 0.75)):
            expected = weighted_precision_slowly(scene, weights, kind, threshold)
            if expected is None:
                assert np.isnan(drawn[level, kind, 0])
            else:
                assert drawn[level, kind, 0] == pytest.approx(expected, abs=1e-9)


def test_pictures_that_weigh_alike_give_the_measurement():
    truths, found = random_scene(np.random.default_rng(0), 30)
    matched = match_pictures(truths, found, [0, 1, 2], COCO_THRESHOLDS)
    drawn = resample(matched, Chosen(np.ones(30)), 1)
    assert np.array_equal(drawn.average_precision[:, :, 0], drawn.measured)
    assert np.array_equal(drawn.measured, sum_up(matched).average_precision[:, :, 0])


def test_every_fraction_is_read_as_the_fraction_it_is():
    """91 of 101 points and not 90: measured and resampled read by one rule, that of fractions."""
    for truths in range(1, 101):
        found = np.arange(truths + 1.0)
        exact = [0] + [int(Fraction(100 * k, truths)) + 1 for k in range(1, truths + 1)]
        assert points_reached(found, np.array(float(truths)), 101).tolist() == exact
    assert average_precision(np.ones(7), np.ones(7, bool), 20) == pytest.approx(36 / 101)
    assert average_precision(np.ones(4), np.ones(4, bool), 11, "11-point") == pytest.approx(4 / 11)
    matched = draw(POPULATIONS["one class, AP .75"], 8, np.random.default_rng(1))[0]
    for factor in (1.0, 0.1, 1 / 3):
        weights = np.full((8, 1), factor)
        truths = weights[matched.truth_picture].sum(axis=0)
        np.testing.assert_allclose(
            weighted_precision(matched, 0, weights, truths)[:, 0],
            sum_up(matched).average_precision[:, 0, 0],
            rtol=1e-12,
        )


@pytest.mark.slow
@pytest.mark.parametrize("name", POPULATIONS)
def test_intervals_hold_the_truth_and_are_never_a_point(name):
    population = POPULATIONS[name]
    truth, generator = true_precision(population), np.random.default_rng(7)
    held = 0
    for _ in range(60):
        drawn = resample(draw(population, 20, generator)[0], generator, 200)
        known = ~np.isnan(drawn.measured[0])
        for level in (0, None):
            low, high = drawn.interval(level)
            assert 0 <= low < high <= 1
            assert low <= drawn.figure(level) <= high
        low, high = drawn.interval(0)
        held += low <= truth[0, known].mean() <= high
    assert held >= 53, f"the 95 % interval held the truth {held} times of 60"


def test_flawless_and_useless_may_have_been_otherwise():
    truths, _ = random_scene(np.random.default_rng(3), 30)
    flawless = [
        type(_found)(t.boxes, np.ones(len(t.boxes)), t.classes) for t, _found in zip(truths, _, strict=True)
    ]
    useless = [type(each)(np.zeros((0, 4)), [], []) for each in _]
    best = resample(match_pictures(truths, flawless, [0, 1, 2], [0.5]), np.random.default_rng(0))
    worst = resample(match_pictures(truths, useless, [0, 1, 2], [0.5]), np.random.default_rng(0))
    low, high = best.interval()
    assert high == 1 and 0.85 < low < 0.99
    low, high = worst.interval()
    assert low == 0 and 0.01 < high < 0.15


def test_of_few_pictures_nothing_is_told():
    truths, found = random_scene(np.random.default_rng(0), LEAST_PICTURES - 1)
    drawn = resample(match_pictures(truths, found, [0, 1, 2], [0.5]), np.random.default_rng(0), 50)
    assert np.isnan(drawn.interval()).all() and 0 <= drawn.figure() <= 1
    assert np.isnan(resample(match_pictures([], [], [0], [0.5]), np.random.default_rng(0), 5).figure())
