"""Jobs: what is going on, and stopping it."""

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from avocet.web.context import context, job_out, reply
from avocet.web.schemas.common import JobList, JobOut, ProjectPath
from avocet.web.schemas.learn import JobPath
from avocet.work import jobs as work

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
