"""Projects."""

from flask import Response
from flask_openapi3 import Tag
from sqlalchemy.orm import Session

from avocet.store.tables import Project
from avocet.web.context import context, reply
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas import project as schemas
from avocet.web.schemas.common import ProjectPath
from avocet.work.pictures.white import choose_white, project_white
from avocet.work.project import projects as work
from avocet.work.project.stages import stages as work_stages

project = DescribedBlueprint("project", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="project")])


def _out(session: Session, project: Project) -> schemas.ProjectOut:
    stages = work_stages(session, project.id)
    return schemas.ProjectOut(id=project.id, name=project.name, stages=stages)


@project.get("/projects", responses={200: schemas.ProjectList})
def list_projects() -> Response:
    """All projects with the figures of their stages."""
    with context().reading() as session:
        making = context().making
        return reply(
            schemas.ProjectList(
                projects=[_out(session, each) for each in work.list_projects(session)],
                making=schemas.MakingOut.model_validate(making) if making else None,
            )
        )


@project.post("/projects", responses={201: schemas.ProjectOut})
def create_project(body: schemas.NewProject) -> Response:
    """Make a project."""
    with context().sessions.begin() as session:
        return reply(_out(session, work.create_project(session, body.name)), 201)


@project.get("/projects/<int:project_id>", responses={200: schemas.ProjectOut})
def get_project(path: ProjectPath) -> Response:
    """One project with the figures of its stages."""
    with context().reading() as session:
        return reply(_out(session, work.get_project(session, path.project_id)))


@project.get("/projects/<int:project_id>/white", responses={200: schemas.WhiteOut})
def get_white(path: ProjectPath) -> Response:
    """What is white in the project's pictures of more than 8 bits."""
    with context().reading() as session:
        return reply(schemas.WhiteOut.model_validate(project_white(session, path.project_id)))


@project.put("/projects/<int:project_id>/white", responses={200: schemas.WhiteOut})
def put_white(path: ProjectPath, body: schemas.WhiteIn) -> Response:
    """Say what is white in them; snapshots that are there keep what they were made with."""
    with context().sessions.begin() as session:
        choose_white(session, path.project_id, body.white)
    return get_white(path)
