"""What every request handler needs: the data folder, database sessions, the queue, labels at hand."""

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from flask import Response, current_app
from pydantic import BaseModel, ValidationError

from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Change, Job, JobState
from avocet.web.door.keeper import Doorkeeper
from avocet.web.kept import KeptLabels
from avocet.web.schemas.common import JobOut, JobOutcomes, JobStarted
from avocet.web.schemas.labels import ChangeOut
from avocet.work.clips.frames import OpenClips
from avocet.work.job_kinds import KINDS, G, JobKind, O, Task
from avocet.work.jobs import create_job, is_changing, seconds_left
from avocet.work.progress import SILENT
from avocet.work.project.projects import get_project
from avocet.work.use.crops_ahead import CropsAhead

MOST_AT_ONCE = 1000
"""Pictures that are changed while somebody waits for the answer: a tenth of a second or two."""


@dataclass(frozen=True)
class Making:
    """A project that is being made while the server answers already: the demo."""

    title: str
    done: int
    total: int


@dataclass
class Context:
    """Handed to the application when it is made."""

    folder: DataFolder
    sessions: Sessions
    reading: Sessions
    enqueue: Callable[[int, str], None]
    labels: KeptLabels
    clips: OpenClips
    crops: CropsAhead
    roots: tuple[Path, ...] = ()
    keeper: Doorkeeper | None = None
    making: Making | None = None
    addresses_changed: Callable[[], None] = lambda: None
    """Called whenever an address, its model or its keys were changed."""


def context_of(
    folder: DataFolder,
    sessions: Sessions,
    enqueue: Callable[[int, str], None],
    roots: tuple[Path, ...] = (),
    keeper: Doorkeeper | None = None,
) -> Context:
    """What an application is handed for a data folder."""
    readers = reading(sessions)
    kept = KeptLabels(readers)
    return Context(folder, sessions, readers, enqueue, kept, OpenClips(folder), CropsAhead(), roots, keeper)


def context() -> Context:
    """The running application's context."""
    found: Context = current_app.extensions["avocet"]
    return found


def reply(model: BaseModel, status: int = 200) -> Response:
    """A schema as a JSON response."""
    return Response(model.model_dump_json(), status, mimetype="application/json")


def start_job(project_id: int, kind: JobKind[G, O], title: str, given: G) -> Response:
    """Record a job of a project, hand it over, and answer with it. Raises `NotFound` without the project."""
    with context().sessions.begin() as session:
        get_project(session, project_id)
        job = create_job(session, project_id, kind, title, given)
    return handed_over(job)


def change_many(project_id: int, kind: JobKind[G, O], title: str, given: G, pictures: int) -> Response:
    """Make a change to many pictures: a small one at once, a large one as a job that the answer names.

    A change waits for its turn where another one is under way: the two might meet.
    """
    with context().reading() as session:
        get_project(session, project_id)
        busy = is_changing(session, project_id)
    if busy or pictures > MOST_AT_ONCE:
        return start_job(project_id, kind, title, given)
    task = Task(context().sessions, context().folder, 0, given, SILENT, context().enqueue)
    return reply(kind.action()(task))


def handed_over(job: Job) -> Response:
    """Hand a recorded job to its worker, and answer with it. Call it after the record is committed."""
    context().enqueue(job.id, job.kind)
    return reply(JobStarted(job=job_out(job)), 202)


def moment(when: dt.datetime) -> str:
    """A recorded time, which is in UTC, as ISO 8601."""
    return when.isoformat() + "Z"


def job_out(job: Job) -> JobOut:
    """A job as the page sees it."""
    kind = KINDS.get(job.kind)
    return JobOut(
        id=job.id,
        project_id=job.project_id,
        kind=job.kind,
        title=job.title,
        state=job.state.value,
        done=job.done,
        total=job.total,
        message=job.message,
        seconds_left=seconds_left(job),
        stop_requested=job.stop_requested,
        resumable=bool(kind and kind.resumable and job.state in (JobState.STOPPED, JobState.INTERRUPTED)),
        short=bool(kind and kind.short),
        outcome=_outcome(job),
    )


def _outcome(job: Job) -> JobOutcomes:
    if job.state != JobState.DONE or job.kind not in KINDS:
        return JobOutcomes()
    try:
        return JobOutcomes.model_validate({job.kind: job.outcome})
    except ValidationError:
        # A job of an earlier version, whose outcome had other fields: nobody waits for it any more.
        return JobOutcomes()


def change_out(change: Change) -> ChangeOut:
    """A change as the page sees it."""
    return ChangeOut(
        id=change.id, title=change.title, made_at=moment(change.made_at), undone=change.undone_at is not None
    )
