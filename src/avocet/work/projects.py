"""Projects, and how far each of their four stages is."""

from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.tables import (
    Box,
    Detection,
    Evaluation,
    Job,
    JobState,
    Part,
    Picture,
    PictureState,
    Project,
    Run,
)
from avocet.work.attributes import add_ready_made
from avocet.work.problems import NotFound

LABELLED = (PictureState.IN_PROGRESS, PictureState.DONE, PictureState.EMPTY)


@dataclass(frozen=True)
class Stages:
    """The figures of the left rail."""

    pictures: int
    labelled: int
    boxes: int
    runs: int
    training: bool
    best_map50: float | None
    evaluations: int
    last_map50: float | None
    last_part: Part | None
    detections: int
    last_source: str | None


def create_project(session: Session, name: str) -> Project:
    """Make a project. Raises `InputError` if the name is empty, too long or taken."""
    wanted = name.strip()
    if not wanted or len(wanted) > 100:
        raise InputError(f"a project's name has 1 to 100 characters, not {len(wanted)}")
    if session.scalar(select(Project).where(Project.name == wanted)) is not None:
        raise InputError(f"there is a project called {wanted!r} already")
    project = Project(name=wanted)
    session.add(project)
    session.flush()
    add_ready_made(session, project.id)
    return project


def get_project(session: Session, project_id: int) -> Project:
    """The project, or `NotFound`."""
    project = session.get(Project, project_id)
    if project is None:
        raise NotFound(f"there is no project {project_id}")
    return project


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


def stages(session: Session, project_id: int) -> Stages:
    """How far the project is, for the left rail."""
    here = (Picture.project_id == project_id) & Picture.binned_at.is_(None)
    pictures = session.scalar(select(func.count()).select_from(Picture).where(here)) or 0
    labelled = session.scalar(select(func.count()).where(here, Picture.state.in_(LABELLED))) or 0
    boxes = session.scalar(select(func.count(Box.id)).join(Picture).where(here)) or 0
    kept = (Run.project_id == project_id) & Run.binned_at.is_(None)
    runs = session.scalar(select(func.count(Run.id)).where(kept)) or 0
    best = session.scalar(select(func.max(Run.best_map50)).where(kept))
    training = session.scalar(
        select(Job.id).where(
            Job.project_id == project_id,
            Job.kind == "train",
            Job.state.in_((JobState.RUNNING, JobState.WAITING)),
        )
    )
    measured = (
        select(Evaluation)
        .join(Job)
        .where(
            Evaluation.project_id == project_id,
            Evaluation.binned_at.is_(None),
            Job.state == JobState.DONE,
        )
        .order_by(Evaluation.id.desc())
    )
    last = session.scalar(measured.limit(1))
    used = select(Detection).where(Detection.project_id == project_id).order_by(Detection.id.desc())
    last_used = session.scalar(used.limit(1))
    return Stages(
        pictures=pictures,
        labelled=labelled,
        boxes=boxes,
        runs=runs,
        training=training is not None,
        best_map50=best,
        evaluations=session.scalar(select(func.count()).select_from(measured.subquery())) or 0,
        last_map50=last.report.get("map50") if last else None,
        last_part=last.part if last else None,
        detections=session.scalar(select(func.count()).select_from(used.subquery())) or 0,
        last_source=last_used.source if last_used else None,
    )
