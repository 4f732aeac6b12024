"""How far each of a project's four stages is."""

from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.store.tables import (
    Detection,
    Evaluation,
    Job,
    JobState,
    Part,
    Picture,
    PictureState,
    Run,
)
from avocet.work.job_kinds import TRAIN, TRAIN_APART
from avocet.work.labels.states import LABELLED


@dataclass(frozen=True)
class Stages:
    """The figures of the left rail."""

    pictures: int
    labelled: int
    in_progress: int
    boxes: int
    runs: int
    training: bool
    best_map50: float | None
    evaluations: int
    last_map50: float | None
    last_part: Part | None
    detections: int
    last_source: str | None


def stages(session: Session, project_id: int) -> Stages:
    """How far the project is, for the left rail."""
    here = (Picture.project_id == project_id) & Picture.binned_at.is_(None)
    pictures = session.scalar(select(func.count()).select_from(Picture).where(here)) or 0
    labelled = session.scalar(select(func.count()).where(here, Picture.state.in_(LABELLED))) or 0
    begun = select(func.count()).where(here, Picture.state == PictureState.IN_PROGRESS)
    boxes = session.scalar(select(func.sum(Picture.box_count)).where(here)) or 0
    kept = (Run.project_id == project_id) & Run.binned_at.is_(None)
    runs = session.scalar(select(func.count(Run.id)).where(kept)) or 0
    best = session.scalar(select(func.max(Run.best_map50)).where(kept))
    training = session.scalar(
        select(Job.id).where(
            Job.project_id == project_id,
            Job.kind.in_((TRAIN.key, TRAIN_APART.key)),
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
        in_progress=session.scalar(begun) or 0,
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
