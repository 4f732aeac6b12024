"""Annotation files in and out."""

import io
import json
import zipfile
from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from avocet.core.errors import InputError
from avocet.formats.kinds import FORMATS, Format, format_called, what_is_lost
from avocet.formats.record import Record
from avocet.formats.table import write_table
from avocet.store.tables import JobState
from avocet.web.context import context, job_out, reply
from avocet.web.schemas import labels as schemas
from avocet.web.schemas.collect import JobStarted
from avocet.web.schemas.common import ProjectPath
from avocet.web.schemas.learn import JobPath
from avocet.web.uploads import sent_files, staged_upload
from avocet.work import exchange as work
from avocet.work.jobs import create_job, get_job
from avocet.work.projects import get_project

exchange = APIBlueprint("exchange", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="exchange")])


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
    token = staged_upload(context().folder, files)
    called = files[0][1] if len(files) == 1 else f"{len(files)} files"
    return _start(path.project_id, "read_labels", f"Read {called}", {"token": token})


@exchange.post("/annotations/<int:job_id>/again", responses={202: JobStarted})
def read_again(path: JobPath, body: schemas.ReadAgain) -> Response:
    """Look at the same files again, in another format or with other columns.

    Also looks at the annotation files of an archive whose pictures were taken in.
    """
    project_id, title, given = _earlier(path.job_id, ("read_labels", "take_archive"))
    given |= {"format": body.format, "columns": body.columns.model_dump() if body.columns else None}
    if title.startswith("Take pictures from "):
        title = f"Read {title.removeprefix('Take pictures from ')}"
    return _start(project_id, "read_labels", title, given)


@exchange.post("/annotations/<int:job_id>/take", responses={202: JobStarted})
def take(path: JobPath, body: schemas.TakeIn) -> Response:
    """Take over what a job has read."""
    project_id, title, given = _earlier(path.job_id, ("read_labels",))
    with context().reading() as session:
        columns = get_job(session, path.job_id).outcome.get("columns")
    given |= {"targets": body.targets, "replace": body.replace, "columns": columns}
    return _start(project_id, "take_labels", f"Take over {title.removeprefix('Read ')}", given)


@exchange.get("/projects/<int:project_id>/loss", responses={200: schemas.LossOut})
def loss(path: ProjectPath, query: schemas.LossQuery) -> Response:
    """What a format cannot hold of the project's labels."""
    with context().reading() as session:
        record = work.export_record(session, path.project_id)
    return reply(
        schemas.LossOut(
            pictures=len(record.pictures),
            boxes=sum(len(picture.boxes) for picture in record.pictures),
            lost=what_is_lost(record, format_called(query.format)),
        )
    )


@exchange.get("/projects/<int:project_id>/annotations")
def export(path: ProjectPath, query: schemas.LossQuery) -> Response:
    """All labelled pictures in the wanted format; an archive where it has many files."""
    form = format_called(query.format)
    with context().reading() as session:
        name = get_project(session, path.project_id).name
        record = work.export_record(session, path.project_id)
    safe = "".join(letter if letter.isalnum() else "-" for letter in name)
    content, suffix = _written(form, record, query.kind)
    response = Response(content, mimetype="application/zip" if suffix == ".zip" else "text/plain")
    if suffix in (".json", ".jsonl"):
        response.mimetype = "application/json"
    response.headers.set("Content-Disposition", "attachment", filename=f"{safe}-{form.key}{suffix}")
    return response


def _written(form: Format, record: Record, kind: Any) -> tuple[bytes, str]:
    files = write_table(record, kind) if form.key == "csv" else form.write(record)
    if not form.many_files:
        return next(iter(files))[1], form.suffixes[0]
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as opened:
        for name, content in files:
            opened.writestr(name, content)
    return held.getvalue(), ".zip"


def _earlier(job_id: int, kinds: tuple[str, ...]) -> tuple[int, str, dict[str, Any]]:
    with context().reading() as session:
        job = get_job(session, job_id)
        if job.kind not in kinds or job.state != JobState.DONE:
            raise InputError(f"{job.title} has not read any labels")
        return job.project_id, job.title, json.loads(json.dumps(job.arguments))


def _start(project_id: int, kind: str, title: str, given: dict[str, Any]) -> Response:
    with context().sessions.begin() as session:
        job = create_job(session, project_id, kind, title, given | {"project_id": project_id})
    context().enqueue(job.id, job.kind)
    return reply(JobStarted(job=job_out(job)), 202)
