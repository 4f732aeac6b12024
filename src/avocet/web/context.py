"""What every request handler needs: the data folder, database sessions, the queue."""

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from flask import Response, current_app
from pydantic import BaseModel
from sqlalchemy.orm import Session, sessionmaker

from avocet.store.folder import DataFolder
from avocet.store.tables import Job
from avocet.web.schemas.common import JobOut
from avocet.work.jobs import seconds_left


@dataclass(frozen=True)
class Context:
    """Handed to the application when it is made."""

    folder: DataFolder
    sessions: sessionmaker[Session]
    reading: sessionmaker[Session]
    enqueue: Callable[[int, str], None]
    roots: tuple[Path, ...] = ()


def context() -> Context:
    """The running application's context."""
    found: Context = current_app.extensions["avocet"]
    return found


def reply(model: BaseModel, status: int = 200) -> Response:
    """A schema as a JSON response."""
    return Response(model.model_dump_json(), status, mimetype="application/json")


def moment(when: dt.datetime) -> str:
    """A recorded time, which is in UTC, as ISO 8601."""
    return when.isoformat() + "Z"


def job_out(job: Job) -> JobOut:
    """A job as the page sees it."""
    fields: dict[str, Any] = {
        name: getattr(job, name) for name in JobOut.model_fields if name not in ("seconds_left", "state")
    }
    return JobOut(**fields, state=job.state.value, seconds_left=seconds_left(job))
