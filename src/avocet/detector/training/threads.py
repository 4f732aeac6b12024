"""How many threads a step takes: as many as the machine has, or one where others keep it busy."""

import os
import statistics
from collections.abc import Callable

import torch

TIMED = 3
"""Steps that are timed with each number of threads."""

SLOWER = 1.4
"""A step that takes so many times as long as it did is a reason to time anew."""

TRIED_AGAIN, SELDOM = 100, 800
"""Steps with one thread after which all are tried again, as what kept the others busy may be over: twice as many
each time that it is not, up to the second."""

LOOKED_AT = 6
"""Latest steps whose median tells."""


class Threads:
    """Chooses the number of threads for steps by timing them.

    Threads share each layer's work and wait for one another. Alone on a machine that is quicker; beside
    other work each wait is as long as the slowest of them is kept waiting, and one thread may be quicker.
    What else the machine does comes and goes: both are timed anew where steps have become slower, and now
    and then where one thread was taken, as its steps do not tell that the others would be free again.

    The same number of threads gives the same weights; which one was taken is told.

    Parameters
    ----------
    told : callable
        Gets a sentence for the log whenever another choice was made.
    choosing : bool
        Whether there is anything to choose: where steps wait for others their time says nothing.
    """

    def __init__(self, told: Callable[[str], None], choosing: bool = True) -> None:
        self._told = told
        self._all = torch.get_num_threads()
        # One thread only, or a number that a person has set, is no choice.
        self._choosing = choosing and self._all > 1 and "OMP_NUM_THREADS" not in os.environ
        self._plan: list[int] = []
        self._times: dict[int, list[float]] = {}
        self._latest: list[float] = []
        self._usual = 0.0
        self._taken, self._since, self._patience = 0, 0, TRIED_AGAIN
        if self._choosing:
            self._begin([self._all, 1])

    def took(self, seconds: float) -> None:
        """Say how long the last step took, without the wait for its batch."""
        if not self._choosing:
            return
        if self._plan:
            self._times.setdefault(self._plan.pop(0), []).append(seconds)
            if self._plan:
                torch.set_num_threads(self._plan[0])
            else:
                self._choose()
            return
        self._latest = [*self._latest[1 - LOOKED_AT :], seconds]
        self._since += 1
        now = torch.get_num_threads()
        slower = len(self._latest) == LOOKED_AT and statistics.median(self._latest) > SLOWER * self._usual
        if slower or (now == 1 and self._since >= self._patience):
            self._begin([now, 1 if now > 1 else self._all])

    def close(self) -> None:
        """Leave the number of threads as it was."""
        torch.set_num_threads(self._all)

    def _begin(self, order: list[int]) -> None:
        # The first step with a number of threads also starts them.
        self._plan = [each for each in order for _ in range(TIMED + 1)]
        self._times, self._latest = {}, []
        torch.set_num_threads(self._plan[0])

    def _choose(self) -> None:
        medians = {count: statistics.median(times[1:]) for count, times in self._times.items()}
        best = min(medians, key=lambda count: medians[count])
        torch.set_num_threads(best)
        self._patience = TRIED_AGAIN if best != self._taken else min(2 * self._patience, SELDOM)
        self._usual, self._since = medians[best], 0
        if best == self._taken:
            return
        self._taken = best
        said = ", ".join(f"{seconds:.2f} s with {count}" for count, seconds in sorted(medians.items()))
        self._told(f"A step takes {said} {'thread' if max(medians) == 1 else 'threads'}; takes {best}")
