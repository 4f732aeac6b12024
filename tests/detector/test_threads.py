"""How many threads a step takes: by time, told, and anew when others come."""

import pytest
import torch

from avocet.detector.training.threads import LOOKED_AT, SELDOM, TIMED, TRIED_AGAIN, Threads


@pytest.fixture
def two_threads(monkeypatch):
    monkeypatch.delenv("OMP_NUM_THREADS", raising=False)
    before = torch.get_num_threads()
    torch.set_num_threads(2)
    yield
    torch.set_num_threads(before)


def steps(threads, seconds, count):
    """Steps that take so long with each number of threads."""
    for _ in range(count):
        threads.took(seconds[torch.get_num_threads()])


def tells(threads, seconds):
    """One more step, and with how many threads it was made."""
    now = torch.get_num_threads()
    threads.took(seconds[now])
    return now


def test_the_quicker_number_is_taken_and_told(two_threads):
    told = []
    threads = Threads(told.append)
    steps(threads, {2: 0.3, 1: 0.45}, 2 * (TIMED + 1))
    assert torch.get_num_threads() == 2 and told == [
        "A step takes 0.45 s with 1, 0.30 s with 2 threads; takes 2"
    ]
    # Others begin to work: each step is as long as the slowest thread is kept waiting.
    steps(threads, {2: 1.2, 1: 0.6}, LOOKED_AT + 2 * (TIMED + 1))
    assert torch.get_num_threads() == 1 and told[1].endswith("takes 1")
    # They go on, and all threads are tried again now and then, ever more seldom; nothing new is told.
    tried = TRIED_AGAIN + 2 * (TIMED + 1)
    with_two = sum(tells(threads, {2: 1.2, 1: 0.6}) == 2 for _ in range(10 * tried))
    assert torch.get_num_threads() == 1 and len(told) == 2 and with_two == 3 * (TIMED + 1)
    # They end: it does not get slower, and yet it is found out.
    steps(threads, {2: 0.3, 1: 0.45}, SELDOM + 2 * (TIMED + 1))
    assert torch.get_num_threads() == 2 and len(told) == 3
    threads.close()
    assert torch.get_num_threads() == 2


def test_one_slow_step_is_no_reason(two_threads):
    told = []
    threads = Threads(told.append)
    steps(threads, {2: 0.3, 1: 0.45}, 2 * (TIMED + 1))
    for _ in range(5):
        steps(threads, {2: 0.3}, LOOKED_AT)
        threads.took(5.0)
    assert len(told) == 1
    threads.close()


def test_a_number_that_was_set_is_kept(two_threads, monkeypatch):
    monkeypatch.setenv("OMP_NUM_THREADS", "2")
    told = []
    threads = Threads(told.append)
    steps(threads, {2: 9.0, 1: 0.1}, 30)
    assert told == [] and torch.get_num_threads() == 2
