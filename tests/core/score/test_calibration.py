"""Calibrating: on made populations whose truth is known, and what it must never change."""

import numpy as np
import pytest
from scipy.special import expit, logit

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.score.calibration import ENOUGH_DETECTIONS, STEEPEST, ScoreMap, calibrate, reliability
from avocet.core.score.precision import evaluate

FIXED = 0.005


def any_map(random):
    return ScoreMap(random.uniform(-5, -1), *np.exp(random.uniform(np.log(0.01), np.log(STEEPEST), 2)), FIXED)


def population(random, count, slope, shift):
    """Scores, and hits whose log odds are a line in the scores'."""
    scores = random.beta(0.6, 0.5, count)
    return scores, random.random(count) < expit(slope * logit(scores) + shift)


@pytest.mark.parametrize(("slope", "shift"), [(1, 0), (0.5, 0.4), (1.6, -0.8), (1, 1.5), (2.5, 0)])
def test_scores_of_a_population_come_to_say_how_often_they_are_right(slope, shift):
    random = np.random.default_rng(3)
    curve = calibrate(*population(random, 3000, slope, shift), FIXED)
    scores, hits = population(random, 20_000, slope, shift)
    used = scores >= 0.05
    before = reliability(scores[used], hits[used]).expected_error
    assert (curve is None) == (slope == 1 and shift == 0), "what is right is left alone"
    if curve is not None:
        after = reliability(curve(scores[used]), hits[used]).expected_error
        assert after < 0.04 and after <= max(before, 0.04)


@pytest.mark.slow
@pytest.mark.parametrize("count", [60, 100, 300])
@pytest.mark.parametrize(("slope", "shift"), [(1, 0), (0.85, 0.1), (0.6, -0.3), (1.5, 0.5), (0.5, -1)])
def test_few_detections_do_not_make_scores_worse(count, slope, shift):
    """On made populations of which it is known how often each score is right: no fit that does harm, or hardly any."""
    random = np.random.default_rng(4)
    grid = np.linspace(0.055, 0.995, 189)
    true = expit(slope * logit(grid) + shift)
    weight = random.beta(0.6, 0.5, 100_000)
    weight = np.histogram(weight[weight > 0.05], bins=np.append(grid - 0.0025, 0.9975))[0]
    before = np.average(np.abs(grid - true), weights=weight)
    worse, fits = 0, 0
    for _ in range(60):
        curve = calibrate(*population(random, round(count / 0.75), slope, shift), FIXED)
        if curve is not None:
            fits += 1
            worse += np.average(np.abs(curve(grid) - true), weights=weight) > before + 0.005
    assert worse <= 6, f"{worse} of {fits} fits made it worse"
    assert fits == 0 or count > 60
    if count >= 300 and before > 0.08:
        assert fits > 50, "where there is something to mend it is mended"


@pytest.mark.parametrize("seed", range(10))
def test_few_detections_do_not_bend_it_much(seed):
    random = np.random.default_rng(seed)
    curve = calibrate(*population(random, 60, 1, 0), FIXED)
    if curve is not None:
        grid = np.linspace(0.05, 0.95, 19)
        assert np.abs(curve(grid) - grid).max() < 0.3


@pytest.mark.parametrize("seed", range(30))
def test_it_rises_and_goes_back_and_leaves_the_measuring_score(seed):
    random = np.random.default_rng(seed)
    curve = any_map(random)
    grid = np.sort(random.uniform(1e-4, 1 - 1e-9, 200))
    assert (np.diff(curve(grid)) > 0).all()
    np.testing.assert_allclose(curve(curve.back(curve(grid))), curve(grid), rtol=1e-9)
    assert float(curve(FIXED)) == pytest.approx(FIXED)


@pytest.mark.parametrize("seed", range(10))
def test_average_precision_stays_what_it_is(seed):
    random = np.random.default_rng(seed)
    truths, found = [], []
    for _ in range(6):
        count = int(random.integers(1, 9))
        corner = random.uniform(0, 80, (count, 2))
        boxes = np.hstack([corner, corner + random.uniform(5, 20, (count, 2))])
        truths.append(PictureTruth(boxes, random.integers(0, 2, count)))
        many = np.vstack([boxes + random.normal(0, 2, boxes.shape), boxes + 30])
        found.append(
            PictureDetections(many, random.uniform(FIXED, 1, 2 * count), random.integers(0, 2, 2 * count))
        )
    curve = any_map(random)
    mapped = [PictureDetections(each.boxes, curve(each.scores), each.classes) for each in found]
    assert evaluate(truths, mapped, range(2)).mean() == evaluate(truths, found, range(2)).mean()


def test_nothing_is_made_of_too_little():
    assert calibrate([0.5] * (ENOUGH_DETECTIONS - 1), [True] * (ENOUGH_DETECTIONS - 1), FIXED) is None
    assert calibrate([0.5] * 50, [True] * 50, FIXED) is None
    assert calibrate([0.5] * 50, [False] * 50, FIXED) is None
    assert calibrate([0.001] * 50, [True, False] * 25, FIXED) is None
    with pytest.raises(ValueError, match="do not match"):
        calibrate([0.5], [True, False], FIXED)
    with pytest.raises(ValueError, match="outside"):
        calibrate([1.5], [True], FIXED)
