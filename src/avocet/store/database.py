"""Opening the database, and bringing it up to the present tables."""

import sqlite3
import time
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session, sessionmaker

import avocet.store.address_tables
import avocet.store.audit_tables
import avocet.store.clip_tables  # noqa: F401 - their tables belong to the database
from avocet.store.turns import Turns

PATIENCE = 30.0
"""Seconds that a writer waits for others."""

ASK_EVERY = 0.003
"""Seconds between two tries of a writer that waits."""

MIGRATIONS = Path(__file__).parent / "migrations"

Sessions = sessionmaker[Session]
"""Makes sessions on one database; how they are asked for everywhere."""


def open_database(path: Path) -> Sessions:
    """Open the database at ``path``, made or migrated as needed.

    Returns
    -------
    sessionmaker
        Makes sessions; used as ``with sessions.begin() as session``.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    sessions = open_as_it_is(path)
    with sessions.kw["bind"].begin() as connection:
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS).replace("%", "%%"))
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
    return sessions


def open_as_it_is(path: Path) -> Sessions:
    """Open a database that another process has opened just now: to look for migrations takes time, and everybody's turn."""
    return sessionmaker(_engine(path), expire_on_commit=False)


def reading(sessions: Sessions) -> Sessions:
    """Sessions that only read, and so never wait for somebody who writes."""
    engine = sessions.kw["bind"]
    return sessionmaker(engine.execution_options(reading=True), expire_on_commit=False)


def _engine(path: Path) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": PATIENCE})
    turns = Turns()

    @event.listens_for(engine, "connect")
    def _settings(connection: sqlite3.Connection, _record: object) -> None:
        # Transactions are begun below, so that a writer takes its lock at once
        # and two processes wait for each other instead of failing half-way.
        connection.isolation_level = None
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("PRAGMA synchronous=NORMAL")
        connection.execute("PRAGMA foreign_keys=ON")

    @event.listens_for(engine, "begin")
    def _begin(connection: Connection) -> None:
        if connection.get_execution_options().get("reading", False):
            connection.exec_driver_sql("BEGIN")
        else:
            with turns.turn():
                _take_turn(connection)

    return engine


def _take_turn(connection: Connection) -> None:
    """Begin to write as soon as nobody else does.

    SQLite's own waiting sleeps ever longer, up to a tenth of a second, and so meets none of the short
    pauses that long work makes between its steps: whoever saves one picture would wait for all of it.
    Within this process one asks at a time, in turn; the others are other processes.
    """
    begun = time.monotonic()
    connection.exec_driver_sql("PRAGMA busy_timeout = 0")
    try:
        while True:
            try:
                connection.exec_driver_sql("BEGIN IMMEDIATE")
                return
            except OperationalError as error:
                if "locked" not in str(error.orig) or time.monotonic() - begun > PATIENCE:
                    raise
                time.sleep(ASK_EVERY)
    finally:
        connection.exec_driver_sql(f"PRAGMA busy_timeout = {int(1000 * PATIENCE)}")
