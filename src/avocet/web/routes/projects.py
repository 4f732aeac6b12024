"""Projects."""

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from avocet.store.tables import Project
from avocet.web.context import context, reply
from avocet.web.schemas import collect as schemas
from avocet.web.schemas.common import ProjectPath
from avocet.work import projects as work

projects = APIBlueprint("projects", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="projects")])


def _out(session, project: Project) -> schemas.ProjectOut:  # type: ignore[no-untyped-def]
    stages = schemas.StagesOut.model_validate(work.stages(session, project.id))
    return schemas.ProjectOut(id=project.id, name=project.name, stages=stages)


@projects.get("/projects", responses={200: schemas.ProjectList})
def list_projects() -> Response:
    """All projects with the figures of their stages."""
    with context().reading() as session:
        return reply(
            schemas.ProjectList(projects=[_out(session, each) for each in work.list_projects(session)])
        )


@projects.post("/projects", responses={201: schemas.ProjectOut})
def create_project(body: schemas.NewProject) -> Response:
    """Make a project."""
    with context().sessions.begin() as session:
        return reply(_out(session, work.create_project(session, body.name)), 201)


@projects.get("/projects/<int:project_id>", responses={200: schemas.ProjectOut})
def get_project(path: ProjectPath) -> Response:
    """One project with the figures of its stages."""
    with context().reading() as session:
        return reply(_out(session, work.get_project(session, path.project_id)))
