"""The randomisation test: exchanges against the definition, and verdicts where there is nothing to tell."""

import numpy as np
import pytest
from bench.populations import POPULATIONS, Population, draw, true_precision

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.score.chance.paired import difference
from avocet.core.score.chance.resampling import resample
from avocet.core.score.chance.swapping import swap
from avocet.core.score.measurement import match_pictures, measure_detections
from tests.core.score.test_precision import random_scene


def compared(first, second, seed=0, draws=400):
    """Difference of two answers to the same truths."""
    truths, classes = first[0], range(3)
    one, two = (match_pictures(truths, found, classes, [0.5]) for _, found in (first, second))
    drawn = [resample(each, np.random.default_rng(seed), draws) for each in (one, two)]
    return difference(*drawn, swap(one, two, np.random.default_rng(seed), draws))


def scenes(generator, pictures, chance):
    """Pictures of one object each that is found with a chance."""
    truths, found = [], []
    for _ in range(pictures):
        truths.append(PictureTruth([[0, 0, 10, 10]], [0]))
        place = 0 if generator.random() < chance else 50
        found.append(PictureDetections([[place, 0, place + 10, 10]], [generator.uniform(0.5, 1)], [0]))
    return truths, found


def test_exchanged_answers_measure_like_answers_written_down_anew():
    random = np.random.default_rng(4)
    truths, one = random_scene(random, 6)
    _, other = random_scene(random, 6)
    other = [
        PictureDetections(
            np.vstack([truth.boxes[:2], each.boxes]),
            np.concatenate([random.random(len(truth.boxes[:2])), each.scores]),
            np.concatenate([truth.classes[:2], each.classes]),
        )
        for truth, each in zip(truths, other, strict=True)
    ]
    thresholds, classes = [0.5, 0.75], [0, 1, 2]
    matched = [match_pictures(truths, found, classes, thresholds) for found in (one, other)]
    made = swap(*matched, np.random.default_rng(9), 20)
    stays = np.random.default_rng(9).integers(0, 2, (6, 20))
    for number in range(20):
        mixed = [a if keep else b for a, b, keep in zip(one, other, stays[:, number], strict=True)]
        rest = [b if keep else a for a, b, keep in zip(one, other, stays[:, number], strict=True)]
        for values, found in ((made.first, mixed), (made.second, rest)):
            expected = measure_detections(truths, found, classes, thresholds).average_precision[:, :, 0]
            np.testing.assert_allclose(values[:, :, number], expected, atol=1e-12)


def test_a_single_miss_is_no_verdict():
    """Two detectors alike on 19 of 20 pictures, one miss apart."""
    alike = scenes(np.random.default_rng(0), 20, 1.0)
    missing = (alike[0], [*alike[1][:-1], PictureDetections([[50, 0, 60, 10]], [0.9], [0])])
    found = compared(missing, alike)
    assert found.amount > 0 and not found.more_than_chance and found.low <= 0 < found.high
    assert found.chance > 0.9, "whichever of the two missed it, they differ as much"


def test_a_clear_difference_is_more_than_chance_and_none_is_not():
    generator = np.random.default_rng(1)
    weak = scenes(generator, 80, 0.5)
    strong = (weak[0], scenes(generator, 80, 0.95)[1])
    better = compared(weak, strong)
    assert better.more_than_chance and better.low > 0 and better.ahead > 0.99 and better.chance < 0.01
    worse = compared(strong, weak)
    assert worse.more_than_chance and worse.high < 0 and worse.ahead < 0.01
    same = compared(weak, weak)
    assert same.same and not same.more_than_chance and same.amount == 0 and same.chance == 1
    assert same.ahead == 0.5 and same.low < 0 < same.high, "on other pictures they may differ"


def test_pairing_is_surer_than_two_intervals():
    """Two models that fail on the same pictures differ by less than either wavers."""
    first = scenes(np.random.default_rng(2), 100, 0.7)
    right = [PictureDetections([[0, 0, 10, 10]], [0.9], [0]) for _ in range(3)]
    paired = compared(first, (first[0], [*first[1][:97], *right]))
    alone = resample(match_pictures(*first, [0], [0.5]), np.random.default_rng(0), 400).interval()
    assert paired.high - paired.low < 0.7 * (alone[1] - alone[0])


@pytest.mark.long
@pytest.mark.slow
@pytest.mark.parametrize("name", POPULATIONS)
def test_detectors_that_are_alike_are_rarely_called_different(name):
    generator, verdicts = np.random.default_rng(3), 0
    for _ in range(60):
        both = draw(POPULATIONS[name], 20, generator, detectors=2)
        seed = int(generator.integers(1 << 30))
        drawn = [resample(each, np.random.default_rng(seed), 200) for each in both]
        verdicts += difference(*drawn, swap(*both, np.random.default_rng(seed), 200), 0).more_than_chance
    assert verdicts <= 7, f"{verdicts} verdicts of 60 at 5 in 100"


@pytest.mark.slow
def test_a_difference_that_is_there_is_found_and_held():
    better = Population((1.0,), 0.93, 0.8, 0.85, 1.6)
    worse = POPULATIONS["one class, AP .75"]
    real = float(true_precision(better)[0, 0] - true_precision(worse)[0, 0])
    generator = np.random.default_rng(11)
    held = verdicts = 0
    for _ in range(40):
        seed = int(generator.integers(1 << 30))
        both = [draw(each, 50, np.random.default_rng(seed))[0] for each in (worse, better)]
        drawn = [resample(each, np.random.default_rng(seed), 200) for each in both]
        found = difference(*drawn, swap(*both, np.random.default_rng(seed), 200), 0)
        held += found.low <= real <= found.high
        verdicts += found.more_than_chance
    assert verdicts >= 36 and held >= 36, (verdicts, held)


def test_what_does_not_pair_is_refused():
    few, many = (match_pictures(*scenes(np.random.default_rng(0), n, 0.5), [0], [0.5]) for n in (6, 7))
    with pytest.raises(ValueError, match="same pictures"):
        swap(few, many, np.random.default_rng(0))
    drawn = [resample(few, np.random.default_rng(0), draws) for draws in (3, 4)]
    with pytest.raises(ValueError, match="cannot be paired"):
        difference(*drawn, swap(few, few, np.random.default_rng(0), 3))
    empty = match_pictures([PictureTruth([], [])], [PictureDetections([], [], [])], [0], [0.5])
    drawn = resample(empty, np.random.default_rng(0), 3)
    found = difference(drawn, drawn, swap(empty, empty, np.random.default_rng(0), 3))
    assert np.isnan(found.amount) and np.isnan(found.low) and not found.more_than_chance
