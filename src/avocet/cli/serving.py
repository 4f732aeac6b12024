"""``avocet serve``."""

import logging
import os
import signal
import socket
import threading
from pathlib import Path
from typing import Any

import click
import uvicorn
from a2wsgi import WSGIMiddleware

from avocet.cli.common import Bar, data_option, open_data
from avocet.core.errors import InputError
from avocet.demo.project import add_demo_clip, demo_clip_is_due, make_demo_project
from avocet.jobs.queue import Queues
from avocet.jobs.supervisor import Supervisor
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.store.lock import only_server
from avocet.web.app import LOCAL_NAMES, create_app
from avocet.web.context import Context, Making
from avocet.web.events import EventHub, with_events
from avocet.web.front import FrontDoor
from avocet.work.pictures.staging import sweep
from avocet.work.progress import Silent

LOOPBACK = frozenset({"127.0.0.1", "localhost", "::1"})
THREADS = 48


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
    with only_server(DataFolder(data)):
        _serve(listener, data, host, password, folders, demo)


def _serve(
    listener: socket.socket,
    data: Path,
    host: str,
    password: str | None,
    folders: tuple[Path, ...],
    demo: bool,
) -> None:
    sweep(DataFolder(data))
    folder, sessions = open_data(data)
    queues = Queues(folder)
    app = create_app(
        folder,
        sessions,
        queues.enqueue,
        hosts=LOCAL_NAMES if host in LOOPBACK else None,
        password=password,
        roots=folders,
    )
    wsgi: Any = app
    context: Context = app.extensions["avocet"]
    hub = EventHub(context.reading, context.labels)
    server = uvicorn.Server(
        uvicorn.Config(
            FrontDoor(with_events(WSGIMiddleware(wsgi, workers=THREADS), hub), password),
            log_level="error",
            access_log=False,
            server_header=False,
            proxy_headers=False,
            lifespan="off",
            timeout_graceful_shutdown=2,
        )
    )
    supervisor = Supervisor(folder.root)
    supervisor.start()
    hub.start()
    shown = f"[{host}]" if ":" in host else host
    click.echo(
        f"Avocet is at http://{shown}:{listener.getsockname()[1]} with the data in {folder.root}. Ctrl-C ends it."
    )
    if demo:
        _make_demo(sessions, folder, context)
    # Who asked it to end need not read what became of each request that was under way.
    logging.getLogger("uvicorn.error").addFilter(lambda record: not server.should_exit)
    # The server hands a signal on once it has ended: a termination then ends the rest as Ctrl-C does.
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    try:
        server.run(sockets=[listener])
    except KeyboardInterrupt:
        pass
    finally:
        hub.close()
        supervisor.close()


class _Told(Silent):
    """A reporter that the page reads."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def progress(self, done: int, total: int, message: str = "") -> None:
        self._context.making = Making(message, done, total)


def _make_demo(sessions: Sessions, folder: DataFolder, context: Context) -> None:
    """Make the demo project beside the server, which answers meanwhile and says how far it is."""
    context.making = Making("Looking for projects", 0, 1)

    def make() -> None:
        try:
            with Bar("Demo project", _Told(context)) as bar:
                make_demo_project(sessions, folder, bar)
        finally:
            context.making = None
        if demo_clip_is_due(folder):
            with Bar("Demo clip") as bar:
                add_demo_clip(sessions, folder, bar)

    threading.Thread(target=make, name="demo", daemon=True).start()


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
