"""One thing done to many items at once comes out as if it were done one by one."""

import threading

import pytest

from avocet import cores
from avocet.core.errors import InputError
from avocet.cores import on_all_cores


@pytest.mark.parametrize("count", [1, 2, 3, 7])
@pytest.mark.parametrize("items", [0, 1, 2, 5, 23])
def test_outcomes_come_in_order_and_faults_with_them(monkeypatch, count, items):
    monkeypatch.setattr(cores.os, "cpu_count", lambda: count)

    def does(number):
        if number % 4 == 3:
            raise InputError(f"{number} is bad")
        return number * number

    told = [str(each) if isinstance(each, InputError) else each for each in on_all_cores(does, range(items))]
    assert told == [f"{number} is bad" if number % 4 == 3 else number * number for number in range(items)]


def test_all_cores_work_at_once(monkeypatch):
    monkeypatch.setattr(cores.os, "cpu_count", lambda: 3)
    together = threading.Barrier(3, timeout=30)
    assert on_all_cores(lambda _: together.wait() >= 0, range(6)) == [True] * 6


def test_what_nobody_expected_is_not_hidden():
    with pytest.raises(ZeroDivisionError):
        on_all_cores(lambda number: 1 // number, [2, 1, 0])
