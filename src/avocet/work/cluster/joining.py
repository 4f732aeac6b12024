"""Joining a cluster: the only place that loads Ray, and the machines that are in it."""

import logging
import os
import socket
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager, redirect_stdout
from dataclasses import dataclass
from importlib.util import find_spec
from typing import Any
from uuid import uuid4

from avocet.core.errors import InputError

LOCAL = "local"
"""The address that starts a cluster of this machine alone."""

ADD_IT = "work on several machines needs one package more: pip install 'avocet[cluster]'"

KNOCKS = 5.0
"""Seconds until a machine that does not answer is taken to be none."""

QUIET = {
    # Nothing is told to anybody outside.
    "RAY_USAGE_STATS_ENABLED": "0",
    "RAY_ACCEL_ENV_VAR_OVERRIDE_ON_ZERO": "0",
    "RAY_DEDUP_LOGS": "0",
}


@dataclass(frozen=True)
class Machine:
    """A machine of a cluster.

    Attributes
    ----------
    node : str
        What Ray calls it.
    name : str
        Its address.
    alive : bool
    cores : int
        That it gives to the cluster.
    accelerators : int
    memory : int
        Bytes that it gives.
    working : tuple of str
        What runs on it now.
    """

    node: str
    name: str
    alive: bool
    cores: int
    accelerators: int
    memory: int
    working: tuple[str, ...] = ()


def can_join() -> bool:
    """Whether Ray is installed."""
    return find_spec("ray") is not None


def ray_module() -> Any:
    """Ray, loaded only by whoever works with several machines. Raises `InputError` where it is not installed."""
    if not can_join():
        raise InputError(ADD_IT)
    for name, value in QUIET.items():
        os.environ.setdefault(name, value)
    import ray

    return ray


class Cluster:
    """A cluster that was joined.

    Parameters
    ----------
    ray : module
    address : str
    """

    def __init__(self, ray: Any, address: str) -> None:
        self.ray, self.address = ray, address

    def machines(self) -> list[Machine]:
        """All machines, those that are gone as well, in the order of their addresses."""
        working = self._working()
        found = []
        for each in self.ray.nodes():
            has = each["Resources"]
            node = each["NodeID"]
            found.append(
                Machine(
                    node,
                    each["NodeManagerAddress"],
                    bool(each["Alive"]),
                    int(has.get("CPU", 0)),
                    int(has.get("GPU", 0)),
                    int(has.get("memory", 0)),
                    tuple(working.get(node, ())),
                )
            )
        return sorted(found, key=lambda each: (not each.alive, each.name, each.node))

    def start(self, kind: type, title: str, *given: Any, cores: int = 1, node: str = "", **more: Any) -> Any:
        """A process of its own somewhere in the cluster; once it dies it is not started again by itself.

        Parameters
        ----------
        kind : type
            Whose methods can be asked for then.
        title : str
            What it is started for, as the page tells it.
        *given
            For its making.
        cores : int
        node : str
            On which machine; by default wherever there are cores.
        **more
            As Ray takes it: accelerators, memory, calls at once.
        """
        where: Any = "SPREAD"
        if node:
            from ray.util.scheduling_strategies import NodeAffinitySchedulingStrategy

            where = NodeAffinitySchedulingStrategy(node, soft=False)
        options = {"num_cpus": cores, "max_restarts": 0, "max_task_retries": 0, "scheduling_strategy": where}
        name = f"{title}#{uuid4().hex}"
        return self.ray.remote(kind).options(name=name, **options, **more).remote(*given)

    def is_answered(self, asked: Any, within: float = 0.0) -> bool:
        """Whether what was asked for is there, at the latest after some seconds."""
        return bool(self.ray.wait([asked], timeout=within)[0])

    def _working(self) -> dict[str, list[str]]:
        """What the workers on each machine were started for."""
        found: dict[str, list[str]] = {}
        for each in self.ray._private.state.actors().values():
            if each["State"] == "ALIVE" and each["Name"]:
                title = each["Name"].rpartition("#")[0]
                found.setdefault(each["Address"]["NodeID"], []).append(title)
        return found


_joining = threading.Lock()
_joined: dict[str, int] = {}
"""By how many this process' one connection is in use, by its address."""


@contextmanager
def joined(address: str) -> Iterator[Cluster]:
    """A cluster for as long as it is used. Several of a process may use the same one at once.

    Parameters
    ----------
    address : str
        ``HOST:PORT`` of its head, or ``local`` for one of this machine alone, which ends with its use.

    Raises
    ------
    InputError
        If Ray is not installed, another cluster is in use by this process, or nothing answers at the address.
    """
    ray = ray_module()
    with _joining:
        if any(each != address for each in _joined):
            raise InputError("this process works with another cluster already")
        if address not in _joined:
            knock_at(address)
            _connect(ray, address)
        _joined[address] = _joined.get(address, 0) + 1
    try:
        # It tells of machines that are gone where results may be written.
        with redirect_stdout(sys.stderr):
            yield Cluster(ray, address)
    finally:
        with _joining:
            _joined[address] -= 1
            if not _joined[address]:
                del _joined[address]
                ray.shutdown()


def _connect(ray: Any, address: str) -> None:
    given = {"address": LOCAL, "num_cpus": _usable_cores()} if address == LOCAL else {"address": address}
    try:
        ray.init(
            **given,
            namespace="avocet",
            include_dashboard=False if address == LOCAL else None,
            log_to_driver=False,
            logging_level=logging.ERROR,
            configure_logging=False,
        )
    except (ConnectionError, RuntimeError, ValueError, TimeoutError, ray.exceptions.RayError) as error:
        reason = str(error).splitlines()[0] if str(error) else type(error).__name__
        raise InputError(f"no cluster answers at {address}: {reason}") from None


def knock_at(address: str) -> None:
    """See whether anybody is at home: Ray itself would try for a minute and more. Raises `InputError` if not."""
    ray_module()
    if address == LOCAL:
        return
    host, _, port = address.rpartition(":")
    if not host or not port.isdigit():
        raise InputError(f"--cluster takes HOST:PORT or {LOCAL}, not {address!r}")
    try:
        socket.create_connection((host, int(port)), timeout=KNOCKS).close()
    except (OSError, OverflowError) as error:
        reason = error.strerror if isinstance(error, OSError) and error.strerror else error
        raise InputError(f"no cluster answers at {address}: {reason}") from None


def said_of(error: BaseException) -> str:
    """What Ray says of a fault, in a line: those before it tell where it was."""
    return (str(error).strip() or type(error).__name__).splitlines()[-1].strip()


def machine_name() -> str:
    """What a worker calls the machine that it is on: its address in the cluster."""
    return str(ray_module().util.get_node_ip_address())


def _usable_cores() -> int:
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
