"""The machines of the cluster as the page shows them."""

from avocet.work.cluster.asked import cluster_if
from avocet.work.cluster.joining import joined
from avocet.work.job_givens import ForProject
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import MachineSeen, MachinesSeen


def do_look_at_machines(task: Task[ForProject]) -> MachinesSeen:
    """Join the cluster for a moment. Raises `InputError` where it does not answer."""
    address = cluster_if(True)
    assert address is not None
    with joined(address) as cluster:
        seen = [
            MachineSeen(
                name=each.name,
                alive=each.alive,
                cores=each.cores,
                accelerators=each.accelerators,
                memory=each.memory,
                working=list(each.working),
            )
            for each in cluster.machines()
        ]
    return MachinesSeen(machines=seen)
