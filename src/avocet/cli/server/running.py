"""The server as it runs: the page, the workers, the address for other programs, and their ends."""

import gc
import logging
import signal
import socket
import sys
import threading
from http import HTTPStatus
from pathlib import Path
from typing import Any

import click
import uvicorn
from a2wsgi import WSGIMiddleware
from flask import Flask

from avocet.cli.common import Bar
from avocet.cli.data import open_data
from avocet.jobs.keeping import KeptProcess
from avocet.jobs.queue import Queues
from avocet.jobs.supervisor import Supervisor
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.web.app import create_app
from avocet.web.context import Context, Making
from avocet.web.door.address_door import AddressDoor
from avocet.web.door.front import FrontDoor
from avocet.web.events import EventHub, with_events
from avocet.work.addresses.addresses import any_address
from avocet.work.addresses.calls import CallCounter
from avocet.work.addresses.link import AnswerLink
from avocet.work.pictures.staging import sweep
from avocet.work.progress import Silent

THREADS = 48

LONGEST_HOLD = 0.001
"""Seconds that a thread goes on computing while others wait for it. An answer lets go of the interpreter a dozen times, at each
question to the database: beside one thread that reads a strange file it would wait five milliseconds each time."""


def run_server(
    listener: socket.socket,
    data: Path,
    hosts: frozenset[str] | None,
    password: str | None,
    folders: tuple[Path, ...],
    demo: bool,
) -> None:
    """Serve a data folder at a bound socket, and do its long work in other processes, until it is asked to end.

    Parameters
    ----------
    listener : socket
    data : Path
    hosts : frozenset of str or None
        Names by which it may be asked for; any where None.
    password : str or None
    folders : tuple of Path
        Of this machine that pictures may be taken from.
    demo : bool
        Make the demo project where there is none.
    """
    sweep(DataFolder(data))
    folder, sessions = open_data(data)
    supervisor = Supervisor(folder.root)
    # Before the application, so that they are there when it is.
    supervisor.start()
    try:
        queues = Queues(folder)
        app = create_app(folder, sessions, queues.enqueue, hosts=hosts, password=password, roots=folders)
        _answer(listener, app, folder, sessions, demo)
    finally:
        supervisor.close()


def _answer(listener: socket.socket, app: Flask, folder: DataFolder, sessions: Sessions, demo: bool) -> None:
    """Answer requests until the process is asked to end."""
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
    config = uvicorn.Config(
        addresses,
        log_level="error",
        access_log=False,
        server_header=False,
        proxy_headers=False,
        lifespan="off",
        timeout_graceful_shutdown=2,
    )
    # What it imports, the first to ask would wait for, as for what is put together at the first question of a kind.
    config.load()
    _ask_first(app)
    server = uvicorn.Server(config)
    hub.start()
    host, port = listener.getsockname()[:2]
    shown = f"[{host}]" if ":" in host else host
    click.echo(f"Avocet is at http://{shown}:{port} with the data in {folder.root}. Ctrl-C ends it.")
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
        counter.write()


def _ask_first(app: Flask) -> None:
    """Ask what a page asks first: the projects, the latest of them, its pictures, one of these."""
    client = app.test_client()

    def ask(path: str) -> Any:
        reply = client.get(f"/api/v1{path}")
        return reply.json if reply.status_code == HTTPStatus.OK else {}

    for project in ask("/projects").get("projects", [])[:1]:
        ask(f"/projects/{project['id']}")
        for picture in ask(f"/projects/{project['id']}/pictures?limit=1").get("pictures", []):
            ask(f"/pictures/{picture['id']}")


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
