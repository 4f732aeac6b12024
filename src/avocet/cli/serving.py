"""``avocet serve``."""

import logging
import os
import signal
import socket
import sys
from pathlib import Path

import click
import waitress

from avocet.cli.common import data_option, open_data
from avocet.core.errors import InputError
from avocet.demo.project import make_demo_project
from avocet.jobs.queue import Queues
from avocet.jobs.supervisor import Supervisor
from avocet.web.app import LOCAL_NAMES, create_app

LOOPBACK = frozenset({"127.0.0.1", "localhost", "::1"})
THREADS = 24


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
@click.option("--demo", is_flag=True, help="Make the demo project if the data folder has no project.")
def serve(data: Path, host: str, port: int, folders: tuple[Path, ...], demo: bool) -> None:
    """Serve the page and do its long work in the background.

    \b
    Example:
      avocet serve --data ~/avocet --demo
    """
    password = os.environ.get("AVOCET_PASSWORD") or None
    if host not in LOOPBACK and password is None:
        raise InputError(f"{host} is not a loopback address; set AVOCET_PASSWORD to serve other machines")
    listener = _listen(host, port)
    folder, sessions = open_data(data)
    if demo:
        make_demo_project(sessions, folder, progress=True)
    queues = Queues(folder)
    app = create_app(
        folder,
        sessions,
        queues.enqueue,
        hosts=LOCAL_NAMES if host in LOOPBACK else None,
        password=password,
        roots=folders,
    )
    logging.getLogger("waitress").setLevel(logging.ERROR)
    server = waitress.create_server(
        app, sockets=[listener], threads=THREADS, max_request_body_size=8 * 1024**3
    )
    supervisor = Supervisor(folder.root)
    supervisor.start()
    # A termination ends the workers too, as Ctrl-C does.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    shown = f"[{host}]" if ":" in host else host
    click.echo(
        f"Avocet is at http://{shown}:{listener.getsockname()[1]} with the data in {folder.root}. Ctrl-C ends it."
    )
    try:
        server.run()
    finally:
        supervisor.close()


def _listen(host: str, port: int) -> socket.socket:
    """A bound socket, before anything else is started, so that a taken port is said at once."""
    listener = socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
    except OSError as error:
        raise InputError(
            f"port {port} on {host} cannot be used: {error.strerror}. Choose another with --port."
        ) from None
    listener.listen(128)
    return listener
