"""Jobs: what is going on, stopping and resuming it, and the stream of events."""

from pathlib import Path

from flask import Response, send_file
from flask_openapi3 import Tag

from avocet.web.context import context, handed_over, job_out, reply
from avocet.web.document import DescribedBlueprint
from avocet.web.events import OPENING
from avocet.web.schemas.common import JobList, JobOut, JobPath, JobStarted, ProjectPath
from avocet.work import jobs as work
from avocet.work.problems import NotFound
from avocet.work.project.projects import get_project

jobs = DescribedBlueprint("jobs", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="jobs")])


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


@jobs.get("/projects/<int:project_id>/events")
def follow(path: ProjectPath) -> Response:
    """Events `job` (a job that changed) and `epoch` (a run that finished one).

    Here it is only decided who may follow; `avocet.web.events` makes a stream of the answer.
    """
    with context().reading() as session:
        get_project(session, path.project_id)
    response = Response(OPENING, mimetype="text/event-stream")
    response.headers["Cache-Control"] = "no-store"
    return response
