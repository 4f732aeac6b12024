"""The workers of a run: each is asked as it is free, and what a machine that dies had under way another does."""

import threading
import time
from collections import Counter
from queue import Empty, Queue
from typing import Any

from avocet.core.errors import InputError
from avocet.work.cluster.joining import Cluster
from avocet.work.cluster.shipping import ShippedModel
from avocet.work.cluster.worker import RemoteLooker

UNDER_WAY = 2
"""Requests that each worker has at once: the next is there when one is done."""

PATIENCE = 90.0
"""Seconds without any worker after which a run gives up."""

LOOKS_AROUND = 2.0
"""Seconds between two looks for machines that came, and for workers that have started."""

WAIT = 0.5


class LookerPool:
    """Long-lived workers on all machines of a cluster, one for each core that it gives.

    Parameters
    ----------
    cluster : Cluster
    model : ShippedModel
    order : dict, optional
        Of a detection run.
    title : str
        What the workers are started for, as the page tells it.

    Attributes
    ----------
    done_on : Counter of str
        Requests that each machine has answered.
    lost : int
        Workers that died.
    """

    def __init__(
        self,
        cluster: Cluster,
        model: ShippedModel,
        order: dict[str, Any] | None = None,
        title: str = "Detection",
    ) -> None:
        self.done_on: Counter[str] = Counter()
        self.lost = 0
        self._cluster, self._ray, self._title = cluster, cluster.ray, title
        self._model = self._ray.put(model)
        self._order = order
        self._free: Queue[Any] = Queue()
        self._starting: dict[Any, Any] = {}
        self._working: dict[Any, str] = {}
        self._lock = threading.Lock()
        self._closed = threading.Event()
        self._alone_since = time.monotonic()
        self._start_missing()
        self._watch = threading.Thread(target=self._look_around, name="cluster", daemon=True)
        self._watch.start()

    @property
    def at_once(self) -> int:
        """Requests that are worth having under way."""
        cores = int(self._ray.cluster_resources().get("CPU", 1))
        return max(2, UNDER_WAY * cores)

    @property
    def ready(self) -> int:
        """Workers that hold the model."""
        with self._lock:
            return len(self._working)

    def ask(self, method: str, *given: Any) -> Any:
        """What a worker says; another one is asked where the first dies over it.

        Raises
        ------
        InputError
            What the worker raises, or if no machine answers any more.
        """
        while True:
            actor = self._next()
            try:
                answer = self._ray.get(getattr(actor, method).remote(*given))
            except self._ray.exceptions.RayTaskError as error:
                self._free.put(actor)
                if isinstance(error.cause, InputError):
                    raise InputError(str(error.cause)) from None
                raise
            except self._ray.exceptions.RayError:
                # The worker, or its machine, is gone.
                self._drop(actor)
                continue
            self._free.put(actor)
            with self._lock:
                if actor in self._working:
                    self.done_on[self._working[actor]] += 1
            return answer

    def put(self, thing: Any) -> Any:
        """Put something where every worker gets it from, once; stands for it in requests."""
        return self._ray.put(thing)

    def close(self) -> None:
        """End the workers."""
        self._closed.set()
        self._watch.join()
        for actor in [*self._working, *self._starting.values()]:
            self._ray.kill(actor)

    def _next(self) -> Any:
        while True:
            try:
                actor = self._free.get(timeout=WAIT)
            except Empty:
                if self._closed.is_set():
                    raise InputError("the work on the cluster was broken off") from None
                with self._lock:
                    alone = not self._working and time.monotonic() - self._alone_since > PATIENCE
                if alone:
                    raise InputError(
                        f"no machine of the cluster at {self._cluster.address} has answered for {PATIENCE:g} s"
                    ) from None
                continue
            with self._lock:
                if actor in self._working:
                    return actor

    def _drop(self, actor: Any) -> None:
        with self._lock:
            if self._working.pop(actor, None) is None:
                return
            self.lost += 1
            if not self._working:
                self._alone_since = time.monotonic()
        # If it is only cut off it shall not go on by itself.
        self._ray.kill(actor)

    def _look_around(self) -> None:
        while not self._closed.wait(0.1 if not self._working else LOOKS_AROUND):
            try:
                self._take_started()
                self._start_missing()
            except self._ray.exceptions.RayError:
                continue

    def _take_started(self) -> None:
        ready, _ = (
            self._ray.wait(list(self._starting), num_returns=1, timeout=0) if self._starting else ([], [])
        )
        for each in ready:
            actor = self._starting.pop(each)
            try:
                machine = self._ray.get(each)
            except self._ray.exceptions.RayError:
                continue
            with self._lock:
                self._working[actor] = machine
            for _ in range(UNDER_WAY):
                self._free.put(actor)
            self._take_started()

    def _start_missing(self) -> None:
        """As many workers as there are cores, some of which may only now have come, or come free again."""
        wanted = int(self._ray.cluster_resources().get("CPU", 0))
        for _ in range(wanted - len(self._working) - len(self._starting)):
            actor = self._cluster.start(RemoteLooker, self._title, self._model, self._order)
            self._starting[actor.ready.remote()] = actor
