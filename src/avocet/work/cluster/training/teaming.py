"""One training over the machines of a cluster: this one is the first, and keeps what is kept."""

import socket
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from avocet.core.errors import InputError
from avocet.detector.training.team import ALONE, TeamBroken, team_at
from avocet.detector.training.trainer import Training
from avocet.work.cluster.joining import Cluster, Machine, joined, machine_name, said_of
from avocet.work.cluster.training.apart import Runs
from avocet.work.cluster.training.member import ShippedTraining, TeamMember, talk_over_network_of
from avocet.work.cluster.training.pictures import PicturePost

PATIENCE = 120.0
"""Seconds for which one that does not answer is waited for in a step; one that died is known at once."""

STARTS = 60.0
"""Seconds in which a machine has to begin; one that is busy with something else is gone without."""

FRUITLESS = 3
"""Teams that broke in one epoch although nobody was lost, after which it is given up."""


def train_together(
    address: str,
    training: Training,
    shipped: ShippedTraining,
    title: str,
    told: Callable[[str], None],
    run: Callable[[Runs], bool],
) -> bool:
    """Run a training over the machines of a cluster; where one is lost, go on without it from the last epoch.

    Parameters
    ----------
    address : str
    training : Training
        This machine's own, which takes the first share of every batch.
    shipped : ShippedTraining
        The same for the others.
    title : str
        What the others are started for, as the page tells it.
    told : callable
        Gets sentences for the log.
    run : callable
        Runs it with what does as `Training.run`, by the team that there is then.

    Returns
    -------
    bool
        As `Training.run`.

    Raises
    ------
    InputError
        What `Training.run` raises, or if the cluster cannot be joined, or the machines cannot train together.
    """
    with joined(address) as cluster:
        others = _Others(cluster, shipped, title, told)
        fruitless = 0
        try:
            while True:
                others.start_missing(training.settings.batch - 1, training.device.type)
                began = training.progress.epoch
                try:
                    with others.teamed(training):
                        return run(training.run)
                except TeamBroken as error:
                    lost = others.without_lost()
                    fruitless = 0 if lost or training.progress.epoch > began else fruitless + 1
                    if fruitless == FRUITLESS:
                        raise InputError(
                            f"the machines of the cluster cannot train together: {error}"
                        ) from None
                    told(
                        f"{', '.join(lost) or 'A machine'} does not answer any more; "
                        f"goes on after epoch {training.progress.epoch}"
                    )
        finally:
            others.close()


class _Others:
    """The other machines of a training.

    One process a machine, with all its cores: within a machine threads share a layer's work better than
    processes share a batch.
    """

    def __init__(
        self, cluster: Cluster, shipped: ShippedTraining, title: str, told: Callable[[str], None]
    ) -> None:
        self._ray, self._cluster = cluster.ray, cluster
        self._title, self._told = title, told
        self._sent, self._post = self._ray.put(shipped), PicturePost(cluster.ray, shipped.pictures)
        self._members: dict[str, tuple[Machine, Any]] = {}
        self._left_out: set[str] = set()
        self._running: dict[str, Any] = {}
        self._own = self._ray.get_runtime_context().get_node_id()
        self._seat = self._take_own_seat()

    def start_missing(self, most: int, device: str) -> None:
        """A member on every machine that has none, up to so many in all."""
        starting: dict[Any, tuple[Machine, Any]] = {}
        for machine in self._cluster.machines():
            known = machine.node in self._members or machine.node in self._left_out
            if not machine.alive or not machine.cores or known or machine.node == self._own:
                continue
            if len(self._members) + len(starting) >= most:
                break
            actor = self._on(machine, TeamMember, self._sent, machine.cores)
            starting[actor.device.remote()] = machine, actor
        ready, _ = (
            self._ray.wait(list(starting), num_returns=len(starting), timeout=STARTS)
            if starting
            else ([], [])
        )
        for asked, (machine, actor) in starting.items():
            reason = self._unfit(asked, device) if asked in ready else "is busy with something else"
            if reason:
                self._told(f"{machine.name} {reason}; goes on without it")
                self._left_out.add(machine.node)
                self._ray.kill(actor)
            else:
                self._members[machine.node] = machine, actor
        self._send_files([actor for asked, (_, actor) in starting.items() if asked in ready])

    @contextmanager
    def teamed(self, training: Training) -> Iterator[None]:
        """All of them together, for as long as it is run."""
        if not self._members:
            self._told("No other machine of the cluster takes part; trains on this one alone")
            training.team = ALONE
            yield
            return
        host, port = machine_name(), _free_port()
        size = 1 + len(self._members)
        for rank, (node, (_, actor)) in enumerate(self._members.items(), start=1):
            self._running[node] = actor.train.remote(host, port, rank, size, PATIENCE)
        names = [host, *(machine.name for machine, _ in self._members.values())]
        self._told(f"Trains on {size} machines: {', '.join(names)}")
        talk_over_network_of(host)
        try:
            with team_at(host, port, 0, size, training.device, PATIENCE) as training.team:
                yield
        finally:
            training.team = ALONE

    def without_lost(self) -> list[str]:
        """Part with those who do not answer any more; who they were. Raises `InputError` where one gave up."""
        lost = []
        for node, running in self._running.items():
            try:
                self._ray.get(running, timeout=PATIENCE)
            except self._ray.exceptions.RayTaskError as error:
                # It missed somebody as this machine did, and is there; or a picture there is damaged.
                if isinstance(error.cause, InputError):
                    raise InputError(str(error.cause)) from None
            except self._ray.exceptions.RayError:
                machine, actor = self._members.pop(node)
                lost.append(machine.name)
                self._ray.kill(actor)
        self._running = {}
        return lost

    def close(self) -> None:
        """End them."""
        for _, actor in self._members.values():
            self._ray.kill(actor)
        if self._seat is not None:
            self._ray.kill(self._seat)

    def _unfit(self, asked: Any, device: str) -> str:
        try:
            own = self._ray.get(asked)
        except self._ray.exceptions.RayError as error:
            return f"cannot take part ({said_of(error)})"
        return "" if own == device else f"would train on {own}, this machine on {device}"

    def _send_files(self, actors: list[Any]) -> None:
        asked = [(actor, actor.sees_files.remote()) for actor in actors]
        self._post.send([actor for actor, sees in asked if not self._ray.get(sees)])

    def _on(self, machine: Machine, kind: type, *given: Any) -> Any:
        """A process that has all of a machine."""
        accelerators = min(1, machine.accelerators)
        return self._cluster.start(
            kind, self._title, *given, cores=machine.cores, node=machine.node, num_gpus=accelerators
        )

    def _take_own_seat(self) -> Any:
        """What this machine gives to the cluster is taken by the training itself."""
        own = [each for each in self._cluster.machines() if each.node == self._own and each.cores]
        return self._on(own[0], _Seat) if own else None


class _Seat:
    """Keeps others from what this machine works with."""


def _free_port() -> int:
    with socket.socket() as held:
        held.bind(("", 0))
        return int(held.getsockname()[1])
