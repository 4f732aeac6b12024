"""``avocet serve``, and ``avocet camera``, which serves pictures to try it with."""

import gc
import logging
import os
import signal
import socket
import sys
import threading
from pathlib import Path
from typing import Any

import click
import uvicorn
from a2wsgi import WSGIMiddleware

from avocet.cli.common import Bar, data_option, open_data
from avocet.core.errors import InputError
from avocet.demo.camera import SimulatedCamera
from avocet.jobs.forking import get_ready
from avocet.jobs.keeping import KeptProcess
from avocet.jobs.queue import Queues
from avocet.jobs.supervisor import Supervisor
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.store.lock import only_server
from avocet.web.app import LOCAL_NAMES, create_app
from avocet.web.context import Context, Making
from avocet.web.door.address_door import AddressDoor
from avocet.web.door.front import FrontDoor
from avocet.web.events import EventHub, with_events
from avocet.work.addresses.addresses import any_address
from avocet.work.addresses.calls import CallCounter
from avocet.work.addresses.link import AnswerLink
from avocet.work.cluster.asked import CLUSTER
from avocet.work.cluster.joining import ADD_IT, can_join
from avocet.work.pictures.staging import sweep
from avocet.work.progress import Silent

LOOPBACK = frozenset({"127.0.0.1", "localhost", "::1"})
THREADS = 48

LONGEST_HOLD = 0.001
"""Seconds that a thread goes on computing while others wait for it. An answer lets go of the interpreter a dozen times, at each
question to the database: beside one thread that reads a strange file it would wait five milliseconds each time."""


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
        _serve(listener, data, host, password, folders, demo)


def _serve(
    listener: socket.socket,
    data: Path,
    host: str,
    password: str | None,
    folders: tuple[Path, ...],
    demo: bool,
) -> None:
    get_ready()
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
    link, counter = AnswerLink(), CallCounter(sessions)
    # Calls wait for it: after a long life it is there again at once.
    answerer = KeptProcess("answerer", "avocet.jobs.answerer:answer", (link.port, link.token), pause=0.0)
    page = FrontDoor(with_events(WSGIMiddleware(wsgi, workers=THREADS), hub), context.keeper)
    addresses = AddressDoor(page, folder, context.reading, counter, link, answerer.want)
    context.addresses_changed = addresses.forget
    with context.reading() as session:
        if any_address(session):
            answerer.want()
    server = uvicorn.Server(
        uvicorn.Config(
            addresses,
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
    sys.setswitchinterval(LONGEST_HOLD)
    # The application stays, as its modules do: searched through every few seconds, they would stop all requests for a
    # fifth of a second each time.
    gc.freeze()
    try:
        server.run(sockets=[listener])
    except KeyboardInterrupt:
        pass
    finally:
        hub.close()
        link.close()
        answerer.end()
        answerer.wait()
        supervisor.close()
        counter.write()


class _Told(Silent):
    """A reporter that the page reads."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def progress(self, done: int, total: int, message: str = "") -> None:
        self._context.making = Making(message, done, total)


def _make_demo(sessions: Sessions, folder: DataFolder, context: Context) -> None:
    """Make the demo project beside the server, which answers meanwhile and says how far it is."""
    # Only here, as it draws on much that a server without a demo does not need to start.
    from avocet.demo.project import add_demo_clip, demo_clip_is_due, make_demo_project

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


@click.command("camera")
@click.option(
    "--port", default=8330, show_default=True, type=click.IntRange(0, 65535), help="Port on this machine."
)
@click.option("--rate", default=12.0, show_default=True, help="Frames a second.")
@click.option("--drop", default=0.0, show_default=True, help="Share of the frames that are left out.")
@click.option("--width", default=960, show_default=True, help="Width of the frames in pixels.")
def camera(port: int, rate: float, drop: float, width: int) -> None:
    """Simulate a camera over the cooling belt: an endless stream of JPEGs over HTTP.

    While it runs, its behaviour is changed by POST /behaviour with drop, stall (seconds), width, rubbish or
    shut.

    \b
    Example:
      avocet camera --port 8330
      curl -X POST 'http://127.0.0.1:8330/behaviour?stall=10'
    """
    if not 0.1 <= rate <= 60:
        raise InputError(f"--rate must lie between 0.1 and 60, not {rate:g}")
    try:
        made = SimulatedCamera(port, rate)
    except OSError as error:
        raise InputError(
            f"port {port} cannot be used: {error.strerror}. Choose another with --port."
        ) from None
    made.change({"drop": [str(drop)], "width": [str(width)]})
    made.start()
    click.echo(f"The camera is at {made.address}. Ctrl-C ends it.")
    try:
        made.wait()
    except KeyboardInterrupt:
        made.close()
