"""The loss of every step: kept while it comes in, and cut where an epoch is trained again."""

import numpy as np

from avocet.work.train.step_losses import StepLosses, step_curve


def test_steps_come_in_and_are_cut_where_a_run_goes_on(tmp_path):
    assert step_curve(tmp_path) == []
    losses = StepLosses(tmp_path, 0)
    for step in range(1, 8):
        losses.add(step, 10 / step)
    losses.write()
    assert [step for step, _ in step_curve(tmp_path)] == list(range(1, 8))
    again = StepLosses(tmp_path, 5)
    again.add(6, 0.5)
    again.write()
    assert step_curve(tmp_path)[-2:] == [(5.0, 2.0), (6.0, 0.5)]


def test_many_steps_are_thinned_to_means(tmp_path):
    losses = StepLosses(tmp_path, 0)
    for step in range(1, 1001):
        losses.add(step, float(step))
    losses.write()
    curve = np.array(step_curve(tmp_path, most=100))
    assert len(curve) == 100
    np.testing.assert_allclose(curve[0], [5.5, 5.5])


def test_a_half_written_line_is_left_out(tmp_path):
    losses = StepLosses(tmp_path, 0)
    losses.add(1, 3.0)
    losses.write()
    with (tmp_path / "steps.csv").open("a") as file:
        file.write("2,1.")
    assert step_curve(tmp_path) == [(1.0, 3.0)]
    assert StepLosses(tmp_path, 9) is not None and step_curve(tmp_path) == [(1.0, 3.0)]
