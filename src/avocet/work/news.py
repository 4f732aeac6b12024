"""What changed among a project's jobs and runs since somebody last looked."""

import datetime as dt
from dataclasses import dataclass, field

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.store.tables import Job, JobState, Run, RunEpoch, now
from avocet.work.jobs import list_jobs

LONG_AGO = dt.timedelta(minutes=2)
"""What ended longer ago need not be told to whoever comes."""


@dataclass(frozen=True)
class News:
    """Jobs that changed, and runs that finished an epoch (run and epoch)."""

    jobs: list[Job] = field(default_factory=list)
    epochs: list[tuple[int, int]] = field(default_factory=list)


class ProjectNews:
    """Looks at a project's jobs and runs, and remembers what it saw.

    Parameters
    ----------
    project_id : int
    """

    def __init__(self, project_id: int) -> None:
        self.project_id = project_id
        self._known: dict[int, tuple[object, ...]] = {}
        self._epochs: dict[int, int] | None = None

    def look(self, session: Session) -> News:
        """What changed since the last look; at the first look all that did not end long ago."""
        first = self._epochs is None
        changed = []
        for job in sorted(list_jobs(session, self.project_id), key=lambda each: each.id):
            signs = (job.state, job.done, job.total, job.message, job.stop_requested, job.started_at)
            if self._known.get(job.id) != signs and not (first and _long_over(job)):
                changed.append(job)
            self._known[job.id] = signs
        newest = {
            run_id: epoch
            for run_id, epoch in session.execute(
                select(RunEpoch.run_id, func.max(RunEpoch.epoch))
                .join(Run, Run.id == RunEpoch.run_id)
                .where(Run.project_id == self.project_id)
                .group_by(RunEpoch.run_id)
            )
        }
        before = self._epochs if self._epochs is not None else newest
        self._epochs = newest
        return News(changed, [each for each in newest.items() if before.get(each[0]) != each[1]])


def _long_over(job: Job) -> bool:
    over = job.state in (JobState.DONE, JobState.FAILED) and job.ended_at is not None
    return over and job.ended_at is not None and now() - job.ended_at > LONG_AGO
