"""The queue: Huey on its SQLite storage. A task is only the number of a job's record.

There are four lanes, each with a worker process of its own: one for work that keeps all cores
busy (training, measuring, detection), one for bringing media in, one for labels, one for looks at
a run before it starts or while it trains. Whoever looks at a file of labels should not have to
wait for a clip, and nobody for a training to end.
"""

from collections.abc import Callable

from huey import SqliteHuey
from huey.api import TaskWrapper

from avocet.store.folder import DataFolder

LANES = {
    "compute": frozenset({"train", "study", "evaluate", "detect"}),
    "media": frozenset({"sample_clip", "take_archive", "take_folder", "look_at_pictures"}),
    "labels": frozenset({"read_labels", "take_labels", "look_at_crops", "archive_snapshot"}),
    "looks": frozenset(
        {
            "cluster_anchors",
            "draw_augmented",
            "sum_up_sizes",
            "probe_run",
            "try_model",
            "take_apart",
            "find_boxes",
        }
    ),
}


def _elsewhere(job_id: int) -> None:
    raise RuntimeError(f"job {job_id} belongs into a worker process")


def open_queue(
    folder: DataFolder, lane: str, run: Callable[[int], None] = _elsewhere
) -> tuple[SqliteHuey, TaskWrapper]:
    """Open the queue of a lane.

    Parameters
    ----------
    folder : DataFolder
    lane : str
    run : callable
        What does a job, given its number; only the worker process has one.

    Returns
    -------
    queue : SqliteHuey
    task : TaskWrapper
        Called with a job's number, it puts the job into the queue.
    """
    folder.root.mkdir(parents=True, exist_ok=True)
    queue = SqliteHuey(name=lane, filename=str(folder.queue), results=False, fsync=True)

    def run_job(job_id: int) -> None:
        run(job_id)

    return queue, queue.task(name="run_job")(run_job)


class Queues:
    """Where recorded jobs are handed over to the workers."""

    def __init__(self, folder: DataFolder) -> None:
        self._tasks = {lane: open_queue(folder, lane)[1] for lane in LANES}

    def enqueue(self, job_id: int, kind: str) -> None:
        """Let the right worker pick up a job. Call it after the job's record is committed."""
        self._tasks[next(lane for lane, kinds in LANES.items() if kind in kinds)](job_id)
