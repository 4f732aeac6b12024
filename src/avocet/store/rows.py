"""Rows as the driver gives them, for whoever reads very many."""

import json
from collections.abc import Iterator, Sequence
from typing import Any, TypeVar

from sqlalchemy import ColumnElement, Executable, func, select
from sqlalchemy.orm import InstrumentedAttribute, Session

from avocet.store.tables import Base

T = TypeVar("T", int, str)
S = TypeVar("S", bound=Any)

CHUNK = 20_000
"""Rows fetched at a time, so that other threads get their turn."""


def plain_rows(session: Session, query: Executable) -> Iterator[Sequence[tuple[Any, ...]]]:
    """The rows of a query for columns, in portions.

    Values come as SQLite keeps them: enumerations as their text, JSON as text, flags as 0 and 1.
    Turning hundreds of thousands of rows into row objects takes longer than reading them.
    """
    connection = session.connection()
    compiled = query.compile(  # type: ignore[attr-defined]
        connection.engine, compile_kwargs={"literal_binds": True}
    )
    cursor = connection.connection.cursor()
    try:
        cursor.execute(str(compiled))
        while some := cursor.fetchmany(CHUNK):
            yield some
    finally:
        cursor.close()


def insert_rows(
    session: Session, table: type[Base], columns: Sequence[str], rows: Sequence[Sequence[Any]]
) -> None:
    """Insert very many rows with the values as SQLite keeps them; see `plain_rows`."""
    name = table.__tablename__
    marks = ", ".join("?" * len(columns))
    statement = f"INSERT INTO {name} ({', '.join(columns)}) VALUES ({marks})"
    session.connection().exec_driver_sql(statement, [tuple(row) for row in rows])


def quietly(statement: S) -> S:
    """An update or delete that looks for no objects of the session that it may concern: there are none."""
    quiet: S = statement.execution_options(synchronize_session=False)
    return quiet


def without_index(column: InstrumentedAttribute[int]) -> ColumnElement[int]:
    """A column in a condition that shall not decide where rows are sought: a sum has no index."""
    return column + 0


def among(column: InstrumentedAttribute[T], values: Sequence[T]) -> ColumnElement[bool]:
    """Whether a column has one of these numbers or texts, however many they are: they travel as one value."""
    listed = func.json_each(json.dumps(list(values))).table_valued("value")
    return column.in_(select(listed.c.value))
