"""The worker process: takes jobs from the queue and does them."""

import json
import logging
import time
from collections.abc import Callable
from typing import Any

from huey.consumer import Consumer
from sqlalchemy.exc import OperationalError

from avocet.core.errors import InputError
from avocet.jobs.memory import ceiling, keep_memory, limit_memory, memory_for
from avocet.jobs.queue import Queues, open_queue
from avocet.jobs.standing import STANDS_BACK, stand_back
from avocet.store.database import Sessions, open_as_it_is
from avocet.store.folder import DataFolder
from avocet.store.tables import JobState
from avocet.work.job_kinds import KINDS, Lane, Task, kinds_of
from avocet.work.jobs import JobReporter, claim, finish, mark_interrupted, waiting_jobs
from avocet.work.live.restarting import set_going_again
from avocet.work.pictures.staging import remove_old
from avocet.work.problems import NotFound
from avocet.work.progress import Stopped

log = logging.getLogger(__name__)

AT_ONCE = {Lane.LIVE: 8, Lane.AWAY: 16}
"""Jobs that a lane does at once, where it is more than one."""

TRY_AGAIN = 2.0
"""Seconds until something that the disk or the database refused is tried again."""


def _leave_waiting(job_id: int, kind: str) -> None:
    """Without a queue a job that follows waits until a worker starts."""


def run_job(
    sessions: Sessions,
    folder: DataFolder,
    job_id: int,
    enqueue: Callable[[int, str], None] = _leave_waiting,
) -> None:
    """Do one job and record how it ended, whatever happens. ``enqueue`` gets the jobs that follow from it."""
    with sessions.begin() as session:
        job = claim(session, job_id)
        if job is None:
            return
        kind, arguments = KINDS[job.kind], dict(job.arguments)
    try:
        given = kind.given.model_validate(arguments)
        task = Task(sessions, folder, job_id, given, JobReporter(sessions, job_id), enqueue)
        outcome = kind.action()(task)
    except Stopped:
        _end(sessions, job_id, JobState.STOPPED, "Stopped; what was done is kept")
    except MemoryError:
        _end(
            sessions, job_id, JobState.FAILED, f"It needs more memory than a worker may take here{ceiling()}"
        )
    except (InputError, NotFound) as error:
        _end(sessions, job_id, JobState.FAILED, folder.without_place(str(error)))
    except Exception as error:
        log.exception("job %d failed", job_id)
        _end(
            sessions,
            job_id,
            JobState.FAILED,
            folder.without_place(f"Unexpected error: {type(error).__name__}: {error}"),
        )
    else:
        told = json.loads(folder.without_place(outcome.model_dump_json()))
        _end(sessions, job_id, JobState.DONE, outcome=told)


def work(folder: DataFolder, lane: Lane) -> None:
    """Work through a lane of a data folder that a server has open, until the process is asked to end."""
    limit_memory(memory_for(lane))
    if lane is Lane.COMPUTE:
        keep_memory()
    stand_back(STANDS_BACK[lane])
    sessions = open_as_it_is(folder.database)
    with sessions.begin() as session:
        # Whatever still says it is running was left by a worker that was killed.
        mark_interrupted(session, kinds_of(lane))
        if lane is Lane.LIVE:
            # What went on when the server ended goes on with it.
            set_going_again(session)
        waiting = waiting_jobs(session, kinds_of(lane))
    remove_old(folder)
    queues = Queues(folder)
    queue, task = open_queue(folder, lane, lambda job_id: run_job(sessions, folder, job_id, queues.enqueue))
    for job_id in waiting:
        # A server killed between recording and queueing leaves jobs that nobody would take up.
        # One that is queued twice is done once: the second time it no longer waits.
        task(job_id)
    Consumer(
        queue, workers=AT_ONCE.get(lane, 1), periodic=False, initial_delay=0.05, max_delay=0.5, backoff=1.3
    ).run()


def _end(
    sessions: Sessions,
    job_id: int,
    state: JobState,
    message: str = "",
    outcome: dict[str, Any] | None = None,
) -> None:
    """Record how a job ended, as soon as there is room for it: a job must not stay running for ever."""
    while True:
        try:
            with sessions.begin() as session:
                finish(session, job_id, state, message, outcome)
            return
        except OperationalError as error:
            log.error("job %d has ended, and this cannot be recorded yet: %s", job_id, error.orig)
            time.sleep(TRY_AGAIN)
