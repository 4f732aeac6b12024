"""Stages that work at the same time."""

import threading
import time

import pytest

from avocet.work.use.running.pipeline import AHEAD, Pipeline, Stage


def test_everything_comes_out_in_order():
    def slow_for_some(n):
        time.sleep(0.004 if n % 3 else 0)
        return n * 10

    made = list(
        Pipeline("counting", [Stage("tens", slow_for_some, 3), Stage("more", lambda n: n + 1)]).run(range(40))
    )
    assert made == [n * 10 + 1 for n in range(40)]
    assert list(Pipeline("counting", []).run(range(3))) == [0, 1, 2]
    assert list(Pipeline("counting", [Stage("tens", slow_for_some)]).run([])) == []


def test_stages_work_at_the_same_time():
    """The second stage waits for the first to have begun the next item: alone in turn they would wait for ever."""
    begun = [threading.Event() for _ in range(5)]

    def first(n):
        begun[n].set()
        return n

    def second(n):
        assert n == 4 or begun[n + 1].wait(5), "the next one is not begun before this one is done"
        return n

    assert list(Pipeline("counting", [Stage("first", first), Stage("second", second)]).run(range(5))) == list(
        range(5)
    )


def test_only_so_many_are_under_way():
    taken, most = 0, 0
    given = 0

    def items():
        nonlocal given
        for n in range(200):
            given += 1
            yield n

    for _ in Pipeline("counting", [Stage("one", lambda n: n), Stage("two", lambda n: n)]).run(items()):
        taken += 1
        time.sleep(0.0005)
        most = max(most, given - taken)
    # Three queues, and one item in each hand between them.
    assert taken == 200 and most <= 3 * AHEAD + 6


@pytest.mark.parametrize("where", ["source", "first", "second"])
def test_what_goes_wrong_comes_out_behind_what_went_well(where):
    def items():
        for n in range(10):
            if where == "source" and n == 4:
                raise ValueError("no fourth")
            yield n

    def fails(name):
        def does(n):
            if where == name and n == 4:
                raise ValueError("no fourth")
            return n

        return does

    out = []
    with pytest.raises(ValueError, match="no fourth"):
        for each in Pipeline(
            "counting", [Stage("first", fails("first")), Stage("second", fails("second"))]
        ).run(items()):
            out.append(each)
    assert out == [0, 1, 2, 3]


def test_whoever_breaks_off_leaves_nothing_running():
    closed = threading.Event()

    def endless():
        try:
            n = 0
            while True:
                yield (n := n + 1)
        finally:
            closed.set()

    before = threading.active_count()
    running = Pipeline("counting", [Stage("one", lambda n: n)]).run(endless())
    assert [next(running) for _ in range(3)] == [1, 2, 3]
    running.close()
    assert closed.wait(2) and threading.active_count() == before


def test_where_the_time_goes():
    pipeline = Pipeline("counting", [Stage("quick", lambda n: n), Stage("slow", lambda n: time.sleep(0.01))])
    list(pipeline.run(range(10)))
    assert set(pipeline.busy) == {"counting", "quick", "slow"}
    assert max(pipeline.busy, key=pipeline.busy.get) == "slow" and pipeline.busy["slow"] >= 0.1
