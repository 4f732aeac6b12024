"""``avocet serve``: what it may serve, where, and that it is the only one; with little loaded, so that workers begin early."""

import os
import socket
from pathlib import Path

import click

from avocet.cli.options import data_option
from avocet.core.errors import InputError
from avocet.jobs.forking import get_ready
from avocet.loading import loading
from avocet.store.folder import DataFolder
from avocet.store.lock import only_server
from avocet.work.cluster.asked import CLUSTER
from avocet.work.cluster.joining import ADD_IT, can_join

LOOPBACK = frozenset({"127.0.0.1", "localhost", "::1"})


@click.command()
@data_option
@click.option(
    "--host",
    default="127.0.0.1",
    show_default=True,
    help="Address to listen on; any but loopback wants a password in AVOCET_PASSWORD.",
)
@click.option(
    "--port", default=8321, show_default=True, type=click.IntRange(0, 65535), help="Port; 0 takes a free one."
)
@click.option(
    "--folder",
    "folders",
    multiple=True,
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="Folder of this machine that pictures may be taken from; may be given several times.",
)
@click.option(
    "--cluster",
    metavar="ADDRESS",
    help="Ray cluster, HOST:PORT, whose machines may look and measure; local starts one on this machine as needed.",
)
@click.option("--demo", is_flag=True, help="Make the demo project if the data folder has no project.")
def serve(
    data: Path, host: str, port: int, folders: tuple[Path, ...], cluster: str | None, demo: bool
) -> None:
    """Serve the page and do its long work in the background.

    \b
    Example:
      avocet serve --data ~/avocet --demo
    """
    password = os.environ.get("AVOCET_PASSWORD") or None
    if host not in LOOPBACK and password is None:
        raise InputError(f"{host} is not a loopback address; set AVOCET_PASSWORD to serve other machines")
    if cluster is not None:
        # Before anything is started: without the package nothing would come of it.
        if not can_join():
            raise InputError(ADD_IT)
        os.environ[CLUSTER] = cluster
    listener = _listen(host, port)
    with only_server(DataFolder(data)):
        # Loads what all workers need while this process loads what it needs itself.
        get_ready()
        with loading():
            from avocet.cli.server.running import run_server
            from avocet.web.app import LOCAL_NAMES
        run_server(listener, data, LOCAL_NAMES if host in LOOPBACK else None, password, folders, demo)


def _listen(host: str, port: int) -> socket.socket:
    """A bound socket, before anything else is started, so that a taken port is said at once."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    # The protocol is named, as asyncio sends answers without delay only on what it knows to be TCP:
    # otherwise every answer waits 40 ms for the browser to acknowledge its head.
    listener = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
    except OSError as error:
        raise InputError(
            f"port {port} on {host} cannot be used: {error.strerror}. Choose another with --port."
        ) from None
    listener.listen(128)
    return listener
