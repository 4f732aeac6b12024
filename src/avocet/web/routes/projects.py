"""Projects and their classes."""

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from avocet.store.tables import Project
from avocet.web.context import context, reply
from avocet.web.schemas import collect as schemas
from avocet.web.schemas.common import ProjectPath
from avocet.work import classes as work_classes
from avocet.work import projects as work

projects = APIBlueprint("projects", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="projects")])


def _out(session, project: Project) -> schemas.ProjectOut:  # type: ignore[no-untyped-def]
    stages = schemas.StagesOut.model_validate(work.stages(session, project.id))
    return schemas.ProjectOut(id=project.id, name=project.name, stages=stages)


@projects.get("/projects", responses={200: schemas.ProjectList})
def list_projects() -> Response:
    """All projects with the figures of their stages."""
    with context().sessions() as session:
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
    with context().sessions() as session:
        return reply(_out(session, work.get_project(session, path.project_id)))


@projects.get("/projects/<int:project_id>/classes", responses={200: schemas.ClassList})
def list_classes(path: ProjectPath) -> Response:
    """Classes in the order of their number keys."""
    with context().sessions() as session:
        return reply(_classes(session, path.project_id))


@projects.post("/projects/<int:project_id>/classes", responses={201: schemas.ClassList})
def add_class(path: ProjectPath, body: schemas.NewClass) -> Response:
    """Add a class after the others."""
    with context().sessions.begin() as session:
        work_classes.add_class(session, path.project_id, body.name)
        return reply(_classes(session, path.project_id), 201)


@projects.patch("/projects/<int:project_id>/classes/<int:class_id>", responses={200: schemas.ClassList})
def change_class(path: schemas.ClassPath, body: schemas.ClassChange) -> Response:
    """Rename or recolour a class."""
    with context().sessions.begin() as session:
        work_classes.change_class(session, path.project_id, path.class_id, body.name, body.colour)
        return reply(_classes(session, path.project_id))


@projects.delete("/projects/<int:project_id>/classes/<int:class_id>", responses={200: schemas.ClassList})
def remove_class(path: schemas.ClassPath) -> Response:
    """Remove a class that no box uses."""
    with context().sessions.begin() as session:
        work_classes.remove_class(session, path.project_id, path.class_id)
        return reply(_classes(session, path.project_id))


def _classes(session, project_id: int) -> schemas.ClassList:  # type: ignore[no-untyped-def]
    counts = work_classes.boxes_by_class(session, project_id)
    return schemas.ClassList(
        classes=[
            schemas.ClassOut(
                id=each.id,
                name=each.name,
                colour=each.colour,
                position=each.position,
                boxes=counts.get(each.id, 0),
            )
            for each in work_classes.list_classes(session, project_id)
        ]
    )
