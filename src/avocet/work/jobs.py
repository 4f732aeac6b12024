"""Records of long work: making, claiming, following, stopping."""

import datetime as dt
import time
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.readable import all_readable, readable, readable_lines
from avocet.store.database import Sessions
from avocet.store.tables import Job, JobState, now
from avocet.work.job_kinds import KINDS, G, JobKind, Lane, O, kinds_of
from avocet.work.job_outcomes import FileMade
from avocet.work.problems import NotFound, by_number

SAVE_EVERY = 0.4
"""Seconds: how often progress is written at most."""

COMMAND_SILENCE = dt.timedelta(minutes=2)
"""A command that has said nothing for so long is taken for dead."""


def create_job(
    session: Session, project_id: int, kind: JobKind[G, O], title: str, given: G | None = None
) -> Job:
    """Record a job that waits for the worker; what it is given may follow by `give`, where it needs its number."""
    job = Job(project_id=project_id, kind=kind.key, title=readable(title), arguments={})
    session.add(job)
    session.flush()
    if given is not None:
        give(job, kind, given)
    return job


def give(job: Job, kind: JobKind[G, O], given: G) -> None:
    """Record what a job is given."""
    assert job.kind == kind.key
    job.arguments = given.model_dump(mode="json")


def get_job(session: Session, job_id: int) -> Job:
    """The job, or `NotFound`."""
    return by_number(session, Job, job_id, "job")


def claim(session: Session, job_id: int, by_command: bool = False) -> Job | None:
    """Mark a waiting job as running; None where it was stopped or taken before.

    ``by_command`` says that a command does it in its own process rather than the worker.
    """
    job = session.get(Job, job_id)
    if job is None or job.state != JobState.WAITING:
        return None
    job.state, job.by_command = JobState.RUNNING, by_command
    job.started_at = job.heartbeat_at = now()
    job.started_done, job.seconds_worked = job.done, 0.0
    return job


def finish(
    session: Session, job_id: int, state: JobState, message: str = "", outcome: dict[str, Any] | None = None
) -> None:
    """Record how a job ended."""
    job = get_job(session, job_id)
    job.state, job.ended_at = state, now()
    if message or state == JobState.DONE:
        job.message = readable_lines(message)
    if state == JobState.DONE and job.total:
        job.done = job.total
    if outcome is not None:
        job.outcome = all_readable(outcome)


def request_stop(session: Session, job_id: int) -> Job:
    """Ask a job to stop; one that still waits ends at once."""
    job = get_job(session, job_id)
    if job.state == JobState.WAITING:
        finish(session, job_id, JobState.STOPPED, "Stopped before it began")
    elif job.state == JobState.RUNNING:
        job.stop_requested = True
    return job


def resume_job(session: Session, job_id: int) -> Job:
    """Let a job go on that keeps what it has done and does it not twice. Raises `InputError` for any other."""
    job = get_job(session, job_id)
    if not KINDS[job.kind].resumable:
        raise InputError(f"{job.title} cannot be resumed here")
    return again(session, job_id)


def again(session: Session, job_id: int) -> Job:
    """Set an ended job back to waiting, to go on where it was. Raises `InputError` if it has not ended."""
    job = get_job(session, job_id)
    if job.state not in (JobState.STOPPED, JobState.FAILED, JobState.INTERRUPTED):
        raise InputError(f"{job.title} cannot be resumed: it is {job.state.value}")
    job.state, job.stop_requested, job.ended_at, job.message = JobState.WAITING, False, None, ""
    return job


def mark_interrupted(session: Session, kinds: set[str]) -> int:
    """Mark jobs that a killed worker, or a command long silent, left running; returns how many."""
    silent = now() - COMMAND_SILENCE
    left = session.scalars(
        select(Job).where(
            Job.state == JobState.RUNNING,
            Job.kind.in_(kinds),
            Job.by_command.is_(False) | (Job.heartbeat_at < silent),
        )
    ).all()
    for job in left:
        finish(session, job.id, JobState.INTERRUPTED, "The worker was ended before it was done")
    return len(left)


def waiting_jobs(session: Session, kinds: set[str]) -> list[int]:
    """Numbers of the jobs that still wait, oldest first."""
    query = select(Job.id).where(
        Job.state == JobState.WAITING, Job.kind.in_(kinds), Job.by_command.is_(False)
    )
    return list(session.scalars(query.order_by(Job.id)))


def list_jobs(session: Session, project_id: int, only_open: bool = False) -> list[Job]:
    """The project's latest jobs, newest first."""
    query = select(Job).where(Job.project_id == project_id).order_by(Job.id.desc()).limit(50)
    if only_open:
        query = query.where(Job.state.in_((JobState.WAITING, JobState.RUNNING)))
    return list(session.scalars(query))


def is_changing(session: Session, project_id: int) -> bool:
    """Whether a change to many pictures of a project is under way, or waits."""
    query = select(Job.id).where(
        Job.project_id == project_id,
        Job.state.in_((JobState.WAITING, JobState.RUNNING)),
        Job.kind.in_(kinds_of(Lane.CHANGES)),
    )
    return session.scalar(query.limit(1)) is not None


def outcome_of(job: Job, kind: JobKind[G, O]) -> O:
    """What a job of this kind came to. Raises `NotFound` for another kind, or one that is not done."""
    if job.kind != kind.key or job.state != JobState.DONE:
        raise NotFound(f"job {job.id} is no {kind.key.replace('_', ' ')} that is done")
    return kind.outcome.model_validate(job.outcome)


def file_made(job: Job) -> str:
    """The name of the file that a job has made. Raises `NotFound` for a job that makes none, or is not done."""
    kind = KINDS[job.kind]
    if not issubclass(kind.outcome, FileMade) or job.state != JobState.DONE:
        raise NotFound(f"job {job.id} has made no file")
    return FileMade.model_validate(job.outcome).file


def seconds_left(job: Job) -> float | None:
    """Time left at the speed so far, or None while nothing can be said."""
    done = job.done - job.started_done
    if job.state != JobState.RUNNING or done <= 0 or job.total <= 0 or job.seconds_worked <= 0:
        return None
    return job.seconds_worked / done * (job.total - job.done)


BEGINNING = 0.02
"""Share of a job within which its first piece counts as getting ready."""


class JobReporter:
    """Writes progress into the job's record, and reads from there whether to stop."""

    def __init__(self, sessions: Sessions, job_id: int) -> None:
        self._sessions, self._job_id = sessions, job_id
        # By a clock that only goes forward: the one on the wall may be set back meanwhile.
        self._begun = time.monotonic()
        self._saved_at = self._begun - SAVE_EVERY
        self._stop, self._first = False, True

    def progress(self, done: int, total: int, message: str = "") -> None:
        """Save progress, but not more often than anybody can see."""
        at = time.monotonic()
        if at - self._saved_at < SAVE_EVERY and done < total:
            return
        self._saved_at = at
        with self._sessions.begin() as session:
            job = get_job(session, self._job_id)
            job.done, job.total, job.heartbeat_at = done, total, now()
            if self._first and 0 < done <= total * BEGINNING:
                # What comes before the first of many pieces is done is no measure of the others.
                job.started_done, self._begun, self._first = done, at, False
            job.seconds_worked = at - self._begun
            if message:
                job.message = message
            self._stop = job.stop_requested

    def should_stop(self) -> bool:
        """Whether the page asked to stop, as of the last saved progress."""
        return self._stop
