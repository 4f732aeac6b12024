"""What proposals save: the range holds the true figure on made people, and nothing is told from too little."""

import numpy as np
import pytest

from avocet.core.labels.labour import LEAST, time_saved


def person(generator, pictures, slower=0.0):
    """Boxes and seconds of pictures; each box takes its own time, and each picture may be harder than another."""
    boxes = generator.integers(1, 12, pictures)
    harder = generator.lognormal(-(slower**2) / 2, slower, pictures)
    seconds = [
        generator.lognormal(np.log(7), 0.5, each).sum() * by for each, by in zip(boxes, harder, strict=True)
    ]
    return boxes, np.array(seconds)


@pytest.mark.slow
@pytest.mark.parametrize(("timed", "helped"), [(6, 20), (20, 20), (60, 10)])
@pytest.mark.parametrize("slower", [0.0, 0.3])
def test_the_range_holds_what_was_truly_saved(timed, helped, slower):
    generator = np.random.default_rng(4)
    held = []
    for _ in range(600):
        by_hand = person(generator, timed, slower)
        boxes, would = person(generator, helped, slower)
        took = 0.3 * would
        found = time_saved(*by_hand, boxes, took)
        held.append(found.low <= would.sum() - took.sum() <= found.high)
    assert 0.90 <= np.mean(held) <= 0.98


def test_too_little_tells_nothing():
    few = ([3] * (LEAST - 1), [20] * (LEAST - 1))
    assert time_saved(*few, [4], [9]) is None
    assert time_saved([*few[0], 0], [*few[1], 50], [4], [9]) is None, (
        "a picture without a box tells of no box"
    )
    assert time_saved([3] * LEAST, [21] * LEAST, [], []) is None
    found = time_saved([3] * LEAST, [21] * LEAST, [4], [58])
    assert (found.saved, found.low, found.high) == pytest.approx((-30, -30, -30)), "they can cost time"
