"""Projects, and how far each of their four stages is."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.readable import usable_name
from avocet.store.tables import (
    Project,
)
from avocet.work.labels.attributes import add_ready_made
from avocet.work.problems import NotFound, by_number


def create_project(session: Session, name: str) -> Project:
    """Make a project. Raises `InputError` if the name is empty, too long or taken."""
    wanted = usable_name(name, "a project's name")
    if session.scalar(select(Project).where(Project.name == wanted)) is not None:
        raise InputError(f"there is a project called {wanted!r} already")
    project = Project(name=wanted)
    session.add(project)
    session.flush()
    add_ready_made(session, project.id)
    return project


def get_project(session: Session, project_id: int) -> Project:
    """The project, or `NotFound`."""
    return by_number(session, Project, project_id, "project")


def project_named(session: Session, name: str) -> Project:
    """The project of that name, or `NotFound` naming those there are."""
    project = session.scalar(select(Project).where(Project.name == name))
    if project is None:
        names = list(session.scalars(select(Project.name).order_by(Project.name)))
        there = f"there are {', '.join(map(repr, names))}" if names else "there are none yet"
        raise NotFound(f"there is no project called {name!r}; {there}")
    return project


def list_projects(session: Session) -> list[Project]:
    """All projects, oldest first."""
    return list(session.scalars(select(Project).order_by(Project.id)))
