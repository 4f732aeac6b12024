"""Starts the worker processes and starts them again should one be killed."""

from pathlib import Path

from avocet.jobs.keeping import KeptProcess
from avocet.store.folder import DataFolder
from avocet.work.cluster.asked import cluster_of_server
from avocet.work.job_kinds import Lane


class Supervisor:
    """Keeps one worker process a lane alive, of those that are needed here, until it is closed.

    Parameters
    ----------
    data : Path
        The data folder that the workers serve.
    """

    def __init__(self, data: Path) -> None:
        self._workers = {
            lane: KeptProcess(lane.value, "avocet.jobs.worker:work", (DataFolder(data), lane))
            for lane in Lane
            # Without a cluster nobody asks for other machines.
            if lane is not Lane.AWAY or cluster_of_server() is not None
        }

    def start(self) -> None:
        """Start the workers."""
        for worker in self._workers.values():
            worker.want()

    def close(self) -> None:
        """End the workers and wait for them."""
        for worker in self._workers.values():
            worker.end()
        for worker in self._workers.values():
            worker.wait()

    def pids(self) -> dict[Lane, int]:
        """Process number of each lane's worker that was started."""
        return {lane: worker.pid for lane, worker in self._workers.items() if worker.pid is not None}
