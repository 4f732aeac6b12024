"""Errors as RFC 9457 problem documents."""

import logging
from typing import Any

from flask import Flask, Response
from pydantic import ValidationError
from sqlalchemy.exc import IntegrityError, OperationalError
from werkzeug.exceptions import HTTPException

from avocet.core.errors import InputError
from avocet.faults import first_fault
from avocet.web.context import context
from avocet.web.schemas.common import Problem
from avocet.work.problems import Conflict, NotFound

log = logging.getLogger(__name__)


def problem(status: int, title: str, detail: str, current: dict[str, Any] | None = None) -> Response:
    """A problem document."""
    folder = context().folder
    document = Problem(title=title, status=status, detail=folder.without_place(detail), current=current)
    content = document.model_dump_json(exclude_none=True)
    return Response(content, status, mimetype="application/problem+json")


def handle_problems(app: Flask) -> None:
    """Let every error leave the application as a problem document."""

    @app.errorhandler(InputError)
    def unusable(error: InputError) -> Response:
        return problem(422, "That cannot be used", str(error))

    @app.errorhandler(NotFound)
    def missing(error: NotFound) -> Response:
        return problem(404, "Not found", str(error))

    @app.errorhandler(Conflict)
    def conflict(error: Conflict) -> Response:
        return problem(409, "Changed meanwhile", str(error), error.current)

    @app.errorhandler(IntegrityError)
    def gone(error: IntegrityError) -> Response:
        # Two requests at once: one took away, or made, what the other one needs, or makes too.
        log.warning("database: %s", error.orig)
        return problem(
            409, "Changed meanwhile", "something that this needs was changed meanwhile; look again"
        )

    @app.errorhandler(OperationalError)
    def database(error: OperationalError) -> Response:
        log.error("database: %s", error.orig)
        if "full" in str(error.orig):
            return problem(507, "Disk full", "the disk with the data folder is full; nothing was changed")
        return problem(503, "Database busy", f"the database cannot be used now: {error.orig}")

    @app.errorhandler(RecursionError)
    def nested(_error: RecursionError) -> Response:
        return problem(422, "That cannot be used", "the request is nested too deeply")

    @app.errorhandler(UnicodeEncodeError)
    def half_letters(_error: UnicodeEncodeError) -> Response:
        return problem(
            422, "That cannot be used", "the request holds halves of letters, which no text can hold"
        )

    @app.errorhandler(MemoryError)
    def memory(_error: MemoryError) -> Response:
        return problem(507, "Out of memory", "this needs more memory than there is now; nothing was changed")

    @app.errorhandler(HTTPException)
    def http(error: HTTPException) -> Response:
        return problem(error.code or 500, error.name, error.description or error.name)

    @app.errorhandler(Exception)
    def unexpected(error: Exception) -> Response:
        log.exception("unexpected error")
        return problem(500, "Unexpected error", f"{type(error).__name__}; the server's log says more")


def invalid_request(error: ValidationError) -> Response:
    """The problem document of a request that does not fit its schema."""
    first = first_fault(error)
    where = ".".join(str(part) for part in first["loc"])
    value = repr(first.get("input"))
    shown = value if len(value) <= 80 else value[:77] + "…"
    return problem(422, "That cannot be used", f"{where or 'the request'}: {first['msg']}, not {shown}")
