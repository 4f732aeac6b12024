"""Stages that work at the same time, each on its own item: none waits for the whole way of another's."""

import threading
import time
from collections.abc import Callable, Generator, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from queue import Empty, Full, Queue
from typing import Any, TypeVar

A = TypeVar("A")

AHEAD = 3
"""Items that wait between two stages: enough for an uneven one, few enough for memory."""

WAIT = 0.2
"""Seconds after which a stage that waits looks whether the work was broken off."""


@dataclass(frozen=True)
class Stage:
    """One step of the way.

    Attributes
    ----------
    name : str
        As a person calls it.
    does : callable
        Takes what the stage before gave and gives what the next one takes.
    workers : int
        How many items it works on at once; they go on in their order all the same.
    """

    name: str
    does: Callable[[Any], Any]
    workers: int = 1


class _BrokenOff(Exception):
    """Nobody wants the results any more."""


class Pipeline:
    """Sends items through stages that work at the same time.

    Parameters
    ----------
    source : str
        What a person calls the making of the items.
    stages : sequence of Stage

    Attributes
    ----------
    busy : dict of str to float
        Seconds that each stage has worked; of several workers together.
    """

    def __init__(self, source: str, stages: Sequence[Stage]) -> None:
        self._source, self._stages = source, list(stages)
        self.busy = dict.fromkeys([source, *(each.name for each in stages)], 0.0)
        self._lock = threading.Lock()

    def run(self, items: Iterable[A]) -> Generator[Any, None, None]:
        """What comes out at the end, in order.

        What a stage or the source raises is raised here once everything before it has come out. Whoever
        breaks off stops all stages; items under way are not finished.

        Parameters
        ----------
        items : iterable
            Taken in a thread of its own.
        """
        off = threading.Event()
        pools = [ThreadPoolExecutor(each.workers, each.name) for each in self._stages]
        # What a stage has under way waits for its turn behind it.
        rooms = [AHEAD, *(max(AHEAD, each.workers) for each in self._stages)]
        queues: list[Queue[Any]] = [Queue(room) for room in rooms]
        threads = [threading.Thread(target=self._feed, args=(items, queues[0], off), daemon=True)]
        for place, (stage, pool) in enumerate(zip(self._stages, pools, strict=True)):
            given = (stage, pool, queues[place], queues[place + 1], off)
            threads.append(threading.Thread(target=self._pass_on, args=given, daemon=True))
        for thread in threads:
            thread.start()
        try:
            while (last := _got(queues[-1], off)) is not None:
                yield last.result()
        finally:
            off.set()
            for thread in threads:
                thread.join()
            for pool in pools:
                pool.shutdown(wait=True, cancel_futures=True)

    def _feed(self, items: Iterable[A], into: "Queue[Any]", off: threading.Event) -> None:
        iterator = iter(items)
        try:
            while True:
                made: Future[Any] = Future()
                begun = time.perf_counter()
                try:
                    made.set_result(next(iterator))
                except StopIteration:
                    break
                except BaseException as error:
                    made.set_exception(error)
                self._worked(self._source, begun)
                _put(into, made, off)
                if made.exception() is not None:
                    break
            _put(into, None, off)
        except _BrokenOff:
            pass
        finally:
            close = getattr(iterator, "close", None)
            if close is not None:
                close()

    def _pass_on(
        self,
        stage: Stage,
        pool: ThreadPoolExecutor,
        taken: "Queue[Any]",
        into: "Queue[Any]",
        off: threading.Event,
    ) -> None:
        def work(before: "Future[Any]") -> Any:
            item = before.result()
            begun = time.perf_counter()
            try:
                return stage.does(item)
            finally:
                self._worked(stage.name, begun)

        try:
            while (before := _got(taken, off)) is not None:
                # Waited for here, so that a stage with several workers has none that only waits.
                while not wait([before], WAIT).done:
                    if off.is_set():
                        raise _BrokenOff
                _put(into, pool.submit(work, before), off)
            _put(into, None, off)
        except _BrokenOff:
            pass

    def _worked(self, name: str, since: float) -> None:
        with self._lock:
            self.busy[name] += time.perf_counter() - since


def _put(queue: "Queue[Any]", item: object, off: threading.Event) -> None:
    while not off.is_set():
        try:
            queue.put(item, timeout=WAIT)
            return
        except Full:
            continue
    raise _BrokenOff


def _got(queue: "Queue[Any]", off: threading.Event) -> "Future[Any] | None":
    while not off.is_set():
        try:
            found: Future[Any] | None = queue.get(timeout=WAIT)
            return found
        except Empty:
            continue
    raise _BrokenOff
