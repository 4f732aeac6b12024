"""Jobs: what is going on, stopping and resuming it, and the stream of events."""

import datetime as dt
import json
import time
from collections.abc import Iterator
from pathlib import Path

from flask import Response, send_file
from flask_openapi3 import APIBlueprint, Tag
from sqlalchemy import select

from avocet.store.tables import Job, JobState, Run, RunEpoch, now
from avocet.web.context import Context, context, handed_over, job_out, reply
from avocet.web.schemas.common import JobList, JobOut, JobPath, JobStarted, ProjectPath
from avocet.work import jobs as work
from avocet.work.problems import NotFound

jobs = APIBlueprint("jobs", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="jobs")])


@jobs.get("/projects/<int:project_id>/jobs", responses={200: JobList})
def list_jobs(path: ProjectPath) -> Response:
    """The project's latest jobs, newest first."""
    with context().reading() as session:
        return reply(JobList(jobs=[job_out(job) for job in work.list_jobs(session, path.project_id)]))


@jobs.get("/jobs/<int:job_id>", responses={200: JobOut})
def get_job(path: JobPath) -> Response:
    """One job with its outcome."""
    with context().reading() as session:
        return reply(job_out(work.get_job(session, path.job_id)))


@jobs.post("/jobs/<int:job_id>/stop", responses={202: JobOut})
def stop_job(path: JobPath) -> Response:
    """Ask a job to stop; what is done so far is kept."""
    with context().sessions.begin() as session:
        return reply(job_out(work.request_stop(session, path.job_id)), 202)


@jobs.post("/jobs/<int:job_id>/resume", responses={202: JobStarted})
def resume_job(path: JobPath) -> Response:
    """Go on with a stopped or interrupted job that keeps what it has done, and does it not twice."""
    with context().sessions.begin() as session:
        job = work.resume_job(session, path.job_id)
    return handed_over(job)


@jobs.get("/jobs/<int:job_id>/file")
def job_file(path: JobPath) -> Response:
    """The file that a job has made: labels in a format, or the archive of a snapshot."""
    with context().reading() as session:
        name = work.file_made(work.get_job(session, path.job_id))
    file = context().folder.export(path.job_id, Path(name).suffix)
    if not file.is_file():
        raise NotFound("this file is not here any more; make it again")
    return send_file(file, as_attachment=True, download_name=name)


LONG_AGO = dt.timedelta(minutes=2)
LOOK_EVERY = 0.4
STREAM_SECONDS = 50.0
"""A stream ends by itself after this long; the browser opens the next. So no lost one lasts."""


@jobs.get("/projects/<int:project_id>/events")
def follow(path: ProjectPath) -> Response:
    """Events `job` (a job that changed) and `epoch` (a run that finished one)."""
    response = Response(_stream(context(), path.project_id), mimetype="text/event-stream")
    response.headers["Cache-Control"] = "no-store"
    return response


def _stream(here: Context, project_id: int) -> Iterator[str]:
    yield "retry: 500\n\n"
    known: dict[int, tuple[object, ...]] = {}
    epochs: dict[int, int] | None = None
    ends = time.monotonic() + STREAM_SECONDS
    quiet_since = time.monotonic()
    while time.monotonic() < ends:
        with here.reading() as session:
            jobs = {job.id: job for job in work.list_jobs(session, project_id)}
            newest = {
                run_id: epoch
                for run_id, epoch in session.execute(
                    select(RunEpoch.run_id, RunEpoch.epoch)
                    .join(Run, Run.id == RunEpoch.run_id)
                    .where(Run.project_id == project_id)
                    .order_by(RunEpoch.epoch)
                )
            }
        for job_id, job in sorted(jobs.items()):
            signs = (job.state, job.done, job.total, job.message, job.stop_requested, job.started_at)
            # What ended long ago need not be told again with every new stream.
            if known.get(job_id) != signs and (job_id in known or not _long_over(job)):
                yield _event("job", job_out(job).model_dump_json())
                quiet_since = time.monotonic()
            known[job_id] = signs
        for run_id, epoch in newest.items():
            if epochs is not None and epochs.get(run_id) != epoch:
                yield _event("epoch", json.dumps({"run_id": run_id, "epoch": epoch}))
        epochs = newest
        if time.monotonic() - quiet_since > 10:
            # Lets the server notice a page that has gone.
            yield ": still here\n\n"
            quiet_since = time.monotonic()
        time.sleep(LOOK_EVERY)


def _long_over(job: Job) -> bool:
    over = job.state in (JobState.DONE, JobState.FAILED) and job.ended_at is not None
    return over and job.ended_at is not None and now() - job.ended_at > LONG_AGO


def _event(name: str, content: str) -> str:
    return f"event: {name}\ndata: {content}\n\n"
