"""Learning curves, hints from training figures, anchors of very many boxes."""

import numpy as np
import pytest
from scipy.optimize import nnls

from avocet.core.raw.anchors import (
    MANY_SIZES,
    anchor_curve,
    cluster_anchors,
    mean_best_iou,
    share_poorly_fitted,
)
from avocet.core.score.saturation import EXPONENTS, fit_saturation
from avocet.work.train.hints import training_hints


@pytest.mark.parametrize("exponent", [0.35, 0.8, 1.5])
@pytest.mark.parametrize("ceiling", [0.7, 0.95])
@pytest.mark.slow
def test_a_known_curve_is_found_again(exponent, ceiling):
    pictures = np.array([12, 25, 50, 100])
    precision = ceiling - 0.9 * pictures**-exponent
    fitted = fit_saturation(pictures, precision, 200, np.random.default_rng(0))
    assert float(fitted.at(200)) == pytest.approx(ceiling - 0.9 * 200**-exponent, abs=0.01)
    assert fitted.low <= fitted.middle <= fitted.high <= 1


def fit_one_by_one(x, y):
    """Ceiling, drop and exponent by a general solver, one exponent after the other."""
    least, best = np.inf, None
    for exponent in EXPONENTS:
        powers = np.stack([np.ones(len(x)), (x / x.max()) ** -exponent], axis=1)
        (room, scaled), residual = nnls(powers, 1 - y)
        if residual < least - 1e-12:
            least, best = residual, (1 - room, scaled * x.max() ** exponent, exponent)
    return best


@pytest.mark.parametrize("seed", range(4))
def test_the_fit_equals_a_general_solver(seed):
    random = np.random.default_rng(seed)
    for _ in range(25):
        x = random.choice([5.0, 9.0, 20.0, 41.0, 100.0], 3, replace=False).repeat(random.integers(1, 4))
        # Rising, falling, level and at the ceiling.
        y = np.clip(random.uniform(-0.2, 1.2) + random.uniform(-1, 1) * x ** -random.uniform(0.2, 2), 0, 1)
        y = np.clip(y + random.normal(0, 0.05, len(x)), 0, 1)
        ceiling, drop, exponent = fit_one_by_one(x, y)
        fitted = fit_saturation(x, y, 200, random)
        curve = ceiling - drop * np.array([5.0, 50.0, 500.0]) ** -exponent
        assert np.allclose(fitted.at([5, 50, 500]), curve, atol=1e-6)


@pytest.mark.slow
def test_the_interval_holds_the_truth_about_as_often_as_it_says():
    random = np.random.default_rng(1)
    pictures = np.repeat([10.0, 20.0, 30.0, 40.0], 3)
    real = lambda n: 0.9 - 1.2 * n**-0.9  # noqa: E731
    held = 0
    for _ in range(200):
        noisy = real(pictures) + random.normal(0, 0.02, len(pictures))
        fitted = fit_saturation(pictures, noisy, 80, random)
        held += fitted.low <= real(80.0) <= fitted.high
    assert held >= 168, f"the 90 % interval held the truth {held} times of 200"


@pytest.mark.slow
def test_flat_falling_and_too_few_points():
    flat = fit_saturation([1, 2, 3], [0.5, 0.5, 0.5], 6, np.random.default_rng(0))
    assert float(flat.at(6)) == pytest.approx(0.5, abs=1e-6)
    falling = fit_saturation([1, 2, 3], [0.9, 0.8, 0.7], 6, np.random.default_rng(0))
    assert falling.drop == 0 and float(falling.at(6)) == pytest.approx(0.8)
    for x, y in (([1, 1, 2], [0, 0, 0]), ([1, 2], [0, 0]), ([0, 1, 2], [0, 0, 0]), ([1, 2, 3], [0, 0])):
        with pytest.raises(ValueError):
            fit_saturation(x, y, 4, np.random.default_rng(0))


def test_hints_come_when_due_and_only_then():
    epochs = range(1, 9)
    falling = [8, 6, 5, 4, 3.5, 3, 2.8, 2.6]
    quiet = training_hints(epochs, falling, falling, {"roll": [0, 0, 3, 4, 5, 5, 5, 5]}, {"roll": 5})
    assert quiet == []
    rising = [8, 6, 5, 5.2, 5.5, 5.8, 6.2, 6.5]
    assert [h.kind for h in training_hints(epochs, falling, rising, {}, {})] == ["overfitting"]
    assert training_hints(epochs, falling, rising, {}, {})[0].epoch == 3
    assert [h.kind for h in training_hints(epochs, [*rising[:5], 9, 12, 20], rising, {}, {})] == [
        "learning rate"
    ]
    never = training_hints(epochs, falling, falling, {"ring": [4, 0, 0, 0, 0, 0, 0, 0]}, {"ring": 7})
    assert [h.kind for h in never] == ["never predicted"] and "7 of it" in never[0].text
    # Nobody can find what is not there, and nothing is said before there is something to judge by.
    both = training_hints(
        epochs, falling, falling, {"ring": [0] * 8, "roll": [0] * 8}, {"ring": 7, "roll": 5}
    )
    assert [h.text.split(" have")[0] for h in both] == ["ring and roll"] and "12 of them" in both[0].text
    leap = training_hints([1, 2, 3], [9, 5, 4], [9000, 6, 5], {}, {})
    assert [(h.kind, h.epoch) for h in leap] == [("learning rate", 1)] and "leapt to 9,000" in leap[0].text
    assert training_hints(epochs, falling, falling, {"ring": [0] * 8}, {"ring": 0}) == []
    assert training_hints([1], [9], [9], {"ring": [0]}, {"ring": 3}) == []


def test_many_boxes_give_nearly_the_anchors_of_all():
    random = np.random.default_rng(0)
    centres = np.array([[20.0, 20], [60, 30], [40, 120]])
    sizes = centres[random.integers(3, size=MANY_SIZES)] * random.lognormal(0, 0.08, (MANY_SIZES, 2))
    few = cluster_anchors(sizes[:-1], 3, np.random.default_rng(5))
    many = cluster_anchors(sizes, 3, np.random.default_rng(5))
    assert np.abs(many / few - 1).max() < 0.01
    assert mean_best_iou(sizes, many) == pytest.approx(mean_best_iou(sizes, few), abs=1e-3)


def test_curve_never_falls_and_poor_fits_are_counted():
    random = np.random.default_rng(2)
    sizes = random.uniform(5, 200, (300, 2))
    curve = anchor_curve(sizes, range(1, 16), np.random.default_rng(0))
    assert len(curve) == 15 and curve == sorted(curve)
    anchors = [[20, 20], [100, 60]]
    slow = 0
    for w, h in sizes:
        best = 0.0
        for a, b in anchors:
            shared = min(w, a) * min(h, b)
            best = max(best, shared / (w * h + a * b - shared))
        slow += best < 0.5
    assert share_poorly_fitted(sizes, anchors) == slow / 300
