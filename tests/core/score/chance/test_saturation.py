"""Curves through precision against pictures: what is foreseen holds, whatever the true curve is like."""

import numpy as np
import pytest
from bench.populations import CURVES, TRAININGS
from scipy.optimize import minimize

from avocet.core.score.chance.saturation import EXPONENTS, FAMILIES, fit_saturation

FORESEEN = [name for name in CURVES if "beyond" not in name]
"""What has not begun with the pictures there are cannot be foreseen."""


@pytest.mark.parametrize("exponent", [0.35, 0.8, 1.5])
@pytest.mark.parametrize("top", [0.7, 0.95])
def test_a_known_curve_is_found_again(exponent, top):
    pictures = np.array([12, 25, 50, 100])
    fitted = fit_saturation(pictures, top - 0.9 * pictures**-exponent, 200, np.random.default_rng(0))
    assert float(fitted.at(200)) == pytest.approx(top - 0.9 * 200**-exponent, abs=0.015)
    assert fitted.low <= fitted.middle <= fitted.high <= 1


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(3))
def test_the_fit_is_as_good_as_a_general_solvers(seed):
    """Of every family the closed form misses no more than a search over the same shapes."""
    random = np.random.default_rng(seed)
    for _ in range(6):
        y = np.clip(
            random.uniform(0, 1.1) - random.uniform(0, 1) * TRAININGS ** -random.uniform(0.2, 2), 0, 1
        )
        y = np.clip(y + random.normal(0, 0.03, len(y)), 0, 1)
        fitted = fit_saturation(TRAININGS, y, 80, random)
        missed = float(((fitted.at(TRAININGS) - y) ** 2).sum())
        for exponent in EXPONENTS[::6]:
            shape = (TRAININGS / 40) ** -exponent
            found = minimize(
                lambda p, shape=shape, y=y: ((p[0] - p[1] * shape - y) ** 2).sum(),
                (0.8, 0.2), bounds=((None, 1), (0, None)),
            )  # fmt: skip
            assert missed <= found.fun + 1e-5


@pytest.mark.long
@pytest.mark.slow
@pytest.mark.parametrize("name", FORESEEN)
@pytest.mark.parametrize("noise", [0.01, 0.02])
def test_the_range_holds_the_truth_whatever_the_curve(name, noise):
    random, real = np.random.default_rng(1), CURVES[name]
    held = 0
    for _ in range(40):
        noisy = np.clip(real(TRAININGS) + random.normal(0, noise, len(TRAININGS)), 0, 1)
        fitted = fit_saturation(TRAININGS, noisy, 80, random)
        held += fitted.low <= real(80.0) <= fitted.high
        assert set(fitted.believed) <= set(FAMILIES) and fitted.family in fitted.believed
    assert held >= 33, f"the range held the truth {held} times of 40"


def test_what_is_worth_it_and_what_is_not():
    random = np.random.default_rng(0)
    level = fit_saturation(TRAININGS, 0.7 + random.normal(0, 0.004, len(TRAININGS)), 80, random)
    assert level.gain_high < 0.02 and level.worth(0.02) is False
    rising = fit_saturation(TRAININGS, 0.15 + 0.14 * np.log(TRAININGS), 80, random)
    assert rising.gain_low > 0.02 and rising.worth(0.02) is True
    one_each = fit_saturation([10, 20, 30, 40], [0.2, 0.7, 0.3, 0.65], 80, random)
    assert one_each.gain_low < 0.02 < one_each.gain_high and one_each.worth(0.02) is None


def test_falling_and_too_few_points():
    falling = fit_saturation([1, 2, 3], [0.9, 0.8, 0.7], 6, np.random.default_rng(0))
    assert float(falling.at(6)) == pytest.approx(0.8)
    for x, y in (([1, 1, 2], [0, 0, 0]), ([1, 2], [0, 0]), ([0, 1, 2], [0, 0, 0]), ([1, 2, 3], [0, 0])):
        with pytest.raises(ValueError):
            fit_saturation(x, y, 4, np.random.default_rng(0))
