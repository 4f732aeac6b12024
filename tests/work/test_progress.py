"""Long work in short steps, on fast machines and slow ones."""

from itertools import chain

import pytest

from avocet.work import progress
from avocet.work.progress import LEAST, STEP, Silent, Stopped, in_portions


class Clock:
    """A clock that only moves when it is told to."""

    now = 0.0

    def monotonic(self) -> float:
        return self.now

    def sleep(self, seconds: float) -> None:
        self.now += seconds


class Told(Silent):
    """Keeps what it is told, and stops when so much is done."""

    def __init__(self, stop_at: float = float("inf")) -> None:
        self.stop_at = stop_at
        self.done = [0]

    def progress(self, done, total, message=""):
        self.done.append(done)
        self.message = message

    def should_stop(self):
        return self.done[-1] >= self.stop_at


@pytest.fixture
def clock(monkeypatch):
    """The clock of the module."""
    made = Clock()
    monkeypatch.setattr(progress, "time", made)
    return made


def steps(clock, seconds_an_item, told, size=1000, count=20_000):
    """Portions of so many items that each take their time."""
    for some in in_portions(range(count), size, told):
        clock.now += seconds_an_item(len(some))
        yield list(some)


@pytest.mark.parametrize("cost", [1e-7, 5e-5, 1e-4, 1.5e-4])
def test_a_step_takes_no_longer_than_others_should_wait(clock, cost):
    told = Told()
    found = list(steps(clock, lambda count: cost * count, told))
    assert list(chain.from_iterable(found)) == list(range(20_000))
    assert told.done == [0, *[some[-1] + 1 for some in found]] and told.message == "20,000 of 20,000 pictures"
    # The first one cannot know.
    longest = max(len(some) for some in found[1:])
    assert longest * cost <= 1.001 * STEP and longest >= 0.9 * min(1000, STEP / cost)


def test_a_machine_that_was_busy_for_a_while_gets_back_to_full_steps(clock):
    told = Told()
    found = steps(clock, lambda count: count * (1e-3 if 3000 <= told.done[-1] < 6000 else 1e-6), told)
    sizes = [len(some) for some in found]
    assert min(sizes[:-1]) == 1000 // LEAST and max(sizes[-6:-1]) == 1000


def test_steps_do_not_shrink_to_nothing(clock):
    sizes = [len(some) for some in steps(clock, lambda _: 10.0, Told(), count=3000)]
    assert set(sizes[1:]) == {1000 // LEAST}


def test_it_stops_before_the_next_step(clock):
    told, seen = Told(stop_at=2000), []
    with pytest.raises(Stopped):
        for some in steps(clock, lambda _: 0, told):
            seen += some
    assert seen == list(range(2000)) and told.done == [0, 1000, 2000]


def test_nothing_is_no_step(clock):
    assert list(in_portions([], 1000, Told())) == []
