"""The queue: Huey on its SQLite storage, one a lane. A task is only the number of a job's record."""

from collections.abc import Callable

from huey import SqliteHuey
from huey.api import TaskWrapper

from avocet.store.folder import DataFolder
from avocet.work.job_kinds import KINDS, Lane


def _elsewhere(job_id: int) -> None:
    raise RuntimeError(f"job {job_id} belongs into a worker process")


def open_queue(
    folder: DataFolder, lane: Lane, run: Callable[[int], None] = _elsewhere
) -> tuple[SqliteHuey, TaskWrapper]:
    """Open the queue of a lane.

    Parameters
    ----------
    folder : DataFolder
    lane : Lane
    run : callable
        What does a job, given its number; only the worker process has one.

    Returns
    -------
    queue : SqliteHuey
    task : TaskWrapper
        Called with a job's number, it puts the job into the queue.
    """
    folder.root.mkdir(parents=True, exist_ok=True)
    queue = SqliteHuey(name=lane.value, filename=str(folder.queue), results=False, fsync=True)

    def run_job(job_id: int) -> None:
        run(job_id)

    return queue, queue.task(name="run_job")(run_job)


class Queues:
    """Where recorded jobs are handed over to the workers."""

    def __init__(self, folder: DataFolder) -> None:
        self._tasks = {lane: open_queue(folder, lane)[1] for lane in Lane}

    def enqueue(self, job_id: int, kind: str) -> None:
        """Let the right worker pick up a job. Call it after the job's record is committed."""
        self._tasks[KINDS[kind].lane](job_id)
