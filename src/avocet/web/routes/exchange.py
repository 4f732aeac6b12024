"""Annotation files in and out."""

from typing import Any

from flask import Response
from flask_openapi3 import Tag

from avocet.core.errors import InputError
from avocet.formats.kinds import FORMATS, format_called, what_is_lost
from avocet.store.tables import Job, JobState
from avocet.web.context import context, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas import exchange as schemas
from avocet.web.schemas.common import JobPath, JobStarted, ProjectPath
from avocet.web.uploads import sent_files
from avocet.work.exchange.written import held_now
from avocet.work.job_givens import ChosenLabels, LabelsToWrite, SentArchive, SentLabels
from avocet.work.job_kinds import EXPORT_LABELS, READ_LABELS, TAKE_ARCHIVE, TAKE_LABELS, JobKind
from avocet.work.job_outcomes import ColumnsRead
from avocet.work.jobs import get_job, outcome_of
from avocet.work.pictures.staging import stage
from avocet.work.project.projects import get_project

exchange = DescribedBlueprint("exchange", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="exchange")])


@exchange.get("/formats", responses={200: schemas.FormatList})
def list_formats() -> Response:
    """The annotation formats that are read and written."""
    formats = [schemas.FormatOut.model_validate(each) for each in FORMATS.values()]
    return reply(schemas.FormatList(formats=formats))


@exchange.post("/projects/<int:project_id>/annotations", responses={202: JobStarted})
def read(path: ProjectPath) -> Response:
    """Look at annotation files (multipart field `files`); the job's outcome says what they hold.

    Nothing is changed until the job is confirmed.
    """
    with context().reading() as session:
        get_project(session, path.project_id)
    files = sent_files()
    token = stage(context().folder, [(file.path, file.name) for file in files])
    called = files[0].name if len(files) == 1 else f"{len(files)} files"
    given = SentLabels(project_id=path.project_id, token=token)
    return start_job(path.project_id, READ_LABELS, f"Read {called}", given)


@exchange.post("/annotations/<int:job_id>/again", responses={202: JobStarted})
def read_again(path: JobPath, body: schemas.ReadAgain) -> Response:
    """Look at the same files again, in another format or with other columns.

    Also looks at the annotation files of an archive whose pictures were taken in.
    """
    job, earlier = _earlier(path.job_id, READ_LABELS, TAKE_ARCHIVE)
    columns = ColumnsRead.model_validate(body.columns.model_dump()) if body.columns else None
    given = SentLabels(
        project_id=job.project_id,
        token=earlier.token,
        format=body.format,
        columns=columns,
        corners=body.corners,
    )
    title = job.title
    if title.startswith("Take pictures from "):
        title = f"Read {title.removeprefix('Take pictures from ')}"
    return start_job(job.project_id, READ_LABELS, title, given)


@exchange.post("/annotations/<int:job_id>/take", responses={202: JobStarted})
def take(path: JobPath, body: schemas.TakeIn) -> Response:
    """Take over what a job has read."""
    job, earlier = _earlier(path.job_id, READ_LABELS)
    given = ChosenLabels(
        project_id=job.project_id,
        token=earlier.token,
        format=getattr(earlier, "format", None),
        columns=outcome_of(job, READ_LABELS).columns,
        corners=getattr(earlier, "corners", None),
        targets=body.targets,
        replace=body.replace,
    )
    return start_job(job.project_id, TAKE_LABELS, f"Take over {job.title.removeprefix('Read ')}", given)


@exchange.get("/projects/<int:project_id>/loss", responses={200: schemas.LossOut})
def loss(path: ProjectPath, query: schemas.LossQuery) -> Response:
    """What a format cannot hold of the project's labels."""
    columns = context().labels.of(path.project_id)
    with context().reading() as session:
        held = held_now(session, path.project_id, columns)
    lost = what_is_lost(held, format_called(query.format))
    return reply(schemas.LossOut(pictures=held.pictures, boxes=held.boxes, lost=lost))


@exchange.post("/projects/<int:project_id>/exports", responses={202: JobStarted})
def export(path: ProjectPath, body: schemas.ExportIn) -> Response:
    """Write all labelled pictures in a format, in the background; `/jobs/{job_id}/file` has the file."""
    form = format_called(body.format)
    given = LabelsToWrite(project_id=path.project_id, format=form.key, table_kind=body.kind)
    return start_job(path.project_id, EXPORT_LABELS, f"Export as {form.name}", given)


def _earlier(job_id: int, *kinds: JobKind[Any, Any]) -> tuple[Job, SentArchive | SentLabels]:
    """A job that has read labels, and what it was given. Raises `InputError` for any other."""
    with context().reading() as session:
        job = get_job(session, job_id)
        arguments = job.arguments
    kind = next((each for each in kinds if each.key == job.kind), None)
    if kind is None or job.state != JobState.DONE:
        raise InputError(f"{job.title} has not read any labels")
    given: SentArchive | SentLabels = kind.given.model_validate(arguments)
    return job, given
