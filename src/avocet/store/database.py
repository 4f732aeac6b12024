"""Opening the database, and bringing it up to the present tables."""

import sqlite3
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.orm import Session, sessionmaker

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
    engine = _engine(path)
    with engine.begin() as connection:
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS).replace("%", "%%"))
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
    return sessionmaker(engine, expire_on_commit=False)


def reading(sessions: Sessions) -> Sessions:
    """Sessions that only read, and so never wait for somebody who writes."""
    engine = sessions.kw["bind"]
    return sessionmaker(engine.execution_options(reading=True), expire_on_commit=False)


def _engine(path: Path) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30})

    @event.listens_for(engine, "connect")
    def _settings(connection: sqlite3.Connection, _record: object) -> None:
        # Transactions are begun below, so that a writer takes its lock at once
        # and two processes wait for each other instead of failing half-way.
        connection.isolation_level = None
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("PRAGMA synchronous=NORMAL")
        connection.execute("PRAGMA foreign_keys=ON")

    @event.listens_for(engine, "begin")
    def _begin(connection: object) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE" if _writes(connection) else "BEGIN")  # type: ignore[attr-defined]

    return engine


def _writes(connection: object) -> bool:
    options = connection.get_execution_options()  # type: ignore[attr-defined]
    return not options.get("reading", False)
