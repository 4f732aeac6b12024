"""The machines of a cluster, where the server works with one."""

from flask import Response
from flask_openapi3 import Tag

from avocet.web.context import reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas.common import JobStarted, ProjectPath
from avocet.web.schemas.server import machines as schemas
from avocet.work.cluster.asked import cluster_of_server
from avocet.work.cluster.joining import ADD_IT, can_join
from avocet.work.job_givens import ForProject
from avocet.work.job_kinds import LOOK_AT_MACHINES

machines = DescribedBlueprint("machines", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="machines")])


@machines.get("/cluster", responses={200: schemas.ClusterOut})
def cluster() -> Response:
    """Whether the server works with a cluster, and what it would take."""
    address = cluster_of_server()
    hint = "" if address else "start it with avocet serve --cluster ADDRESS" if can_join() else ADD_IT
    return reply(schemas.ClusterOut(address=address, hint=hint))


@machines.post("/projects/<int:project_id>/machines", responses={202: JobStarted})
def look_at_machines(path: ProjectPath) -> Response:
    """See which machines the cluster has and what runs on them; the job's outcome tells."""
    given = ForProject(project_id=path.project_id)
    return start_job(path.project_id, LOOK_AT_MACHINES, "Look at the machines", given)
