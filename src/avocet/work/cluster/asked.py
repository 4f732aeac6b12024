"""Whether the server that a job belongs to works with a cluster."""

import os

from avocet.core.errors import InputError

CLUSTER = "AVOCET_CLUSTER"
"""The environment variable by which ``avocet serve --cluster`` tells its workers the address."""


def cluster_of_server() -> str | None:
    """The address of the cluster, or None."""
    return os.environ.get(CLUSTER, "").strip() or None


def cluster_if(wanted: bool) -> str | None:
    """The address where a person chose the cluster. Raises `InputError` where there is none."""
    if not wanted:
        return None
    address = cluster_of_server()
    if address is None:
        raise InputError("this server works with no cluster; start it with avocet serve --cluster ADDRESS")
    return address
