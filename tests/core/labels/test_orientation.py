import numpy as np
import pytest

from avocet.core.labels.orientation import lie_in_every_direction


def test_each_class_on_its_own():
    wide, tall = [[30, 10]] * 20, [[10, 30]] * 20
    # One class always wide, the other always tall: together balanced, but each has its direction.
    assert not lie_in_every_direction(wide + tall, [0] * 20 + [1] * 20)
    assert lie_in_every_direction(wide + tall, [0] * 40)


def test_one_upright_class_is_enough_to_say_no():
    sizes = [[30, 10], [10, 30]] * 20 + [[10, 30]] * 20
    assert not lie_in_every_direction(sizes, [0] * 40 + [1] * 20)


@pytest.mark.parametrize("sizes", [[], [[10, 10]] * 50, [[30, 10], [10, 30]]])
def test_without_evidence_the_answer_is_no(sizes):
    assert not lie_in_every_direction(sizes, [0] * len(sizes))


def test_boxes_turned_at_random_say_yes():
    random = np.random.default_rng(0)
    turn = random.uniform(0, np.pi, 200)
    sizes = np.stack(
        [60 * abs(np.cos(turn)) + 20 * abs(np.sin(turn)), 60 * abs(np.sin(turn)) + 20 * abs(np.cos(turn))], 1
    )
    assert lie_in_every_direction(sizes, np.zeros(200))
