"""How far each of a project's four stages is."""

from dataclasses import dataclass

from sqlalchemy import Integer, bindparam, case, func, select
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


# Questions put together once: the page asks them after every change, and that takes longer than to answer them.
_PROJECT = bindparam("project", type_=Integer)

_PICTURES = select(
    func.count(),
    func.coalesce(func.sum(case((Picture.state.in_(LABELLED), 1), else_=0)), 0),
    func.coalesce(func.sum(case((Picture.state == PictureState.IN_PROGRESS, 1), else_=0)), 0),
    func.coalesce(func.sum(Picture.box_count), 0),
).where(Picture.project_id == _PROJECT, Picture.binned_at.is_(None))

_RUNS = select(func.count(), func.max(Run.best_map50)).where(
    Run.project_id == _PROJECT, Run.binned_at.is_(None)
)

_TRAINING = select(Job.id).where(
    Job.project_id == _PROJECT,
    Job.kind.in_((TRAIN.key, TRAIN_APART.key)),
    Job.state.in_((JobState.RUNNING, JobState.WAITING)),
)

_MEASURED = (
    select(Evaluation.report["map50"].as_float(), Evaluation.part, func.count().over())
    .join(Job)
    .where(Evaluation.project_id == _PROJECT, Evaluation.binned_at.is_(None), Job.state == JobState.DONE)
    .order_by(Evaluation.id.desc())
    .limit(1)
)

_USED = (
    select(Detection.source, func.count().over())
    .where(Detection.project_id == _PROJECT)
    .order_by(Detection.id.desc())
    .limit(1)
)


def stages(session: Session, project_id: int) -> Stages:
    """How far the project is, for the left rail."""
    of = {"project": project_id}
    pictures, labelled, in_progress, boxes = session.execute(_PICTURES, of).one()
    runs, best = session.execute(_RUNS, of).one()
    last_map50, last_part, evaluations = session.execute(_MEASURED, of).one_or_none() or (None, None, 0)
    last_source, detections = session.execute(_USED, of).one_or_none() or (None, 0)
    return Stages(
        pictures=pictures,
        labelled=labelled,
        in_progress=in_progress,
        boxes=boxes,
        runs=runs,
        training=session.execute(_TRAINING, of).first() is not None,
        best_map50=best,
        evaluations=evaluations,
        last_map50=last_map50,
        last_part=last_part,
        detections=detections,
        last_source=last_source,
    )
