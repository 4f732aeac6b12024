"""Evaluations: figures, the wall of pictures, truth against prediction."""

from functools import lru_cache

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from avocet.store.tables import Evaluation
from avocet.web.context import context, job_out, reply
from avocet.web.schemas import learn as schemas
from avocet.web.schemas.common import ProjectPath
from avocet.work import evaluations as work
from avocet.work import judging
from avocet.work.projects import get_project

MOST_BOXES = 200
"""Boxes of a cell that are shown."""

evaluations = APIBlueprint("evaluations", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="evaluations")])


def _out(evaluation: Evaluation) -> schemas.EvaluationOut:
    return schemas.EvaluationOut(
        id=evaluation.id,
        run_id=evaluation.run_id,
        run_name=evaluation.run.name,
        part=evaluation.part,
        report=schemas.ReportOut.model_validate(evaluation.report) if evaluation.report else None,
        created_at=evaluation.created_at.isoformat() + "Z",
        job=job_out(evaluation.job),
    )


@evaluations.get("/projects/<int:project_id>/evaluations", responses={200: schemas.EvaluationList})
def list_evaluations(path: ProjectPath) -> Response:
    """The project's evaluations, newest first."""
    with context().reading() as session:
        get_project(session, path.project_id)
        found = work.list_evaluations(session, path.project_id)
        return reply(schemas.EvaluationList(evaluations=[_out(each) for each in found]))


@evaluations.post("/evaluations", responses={202: schemas.EvaluationOut})
def start_evaluation(body: schemas.EvaluationIn) -> Response:
    """Measure a run's best checkpoint on the validation or the test part."""
    with context().sessions.begin() as session:
        evaluation = work.start_evaluation(session, context().folder, body.run_id, body.part)
        job_id, kind, out = evaluation.job.id, evaluation.job.kind, _out(evaluation)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@evaluations.get("/evaluations/<int:evaluation_id>", responses={200: schemas.EvaluationOut})
def get_evaluation(path: schemas.EvaluationPath) -> Response:
    """One evaluation with its figures."""
    with context().reading() as session:
        return reply(_out(work.get_evaluation(session, path.evaluation_id)))


@evaluations.get("/evaluations/<int:evaluation_id>/pictures", responses={200: schemas.WallOut})
def wall(path: schemas.EvaluationPath, query: schemas.ThresholdQuery) -> Response:
    """Hits, misses and false alarms of every picture at two thresholds."""
    measured = _measured(path.evaluation_id)
    rows = [schemas.WallRow(**row) for row in measured.wall(query.minimum_score, query.overlap_limit)]
    return reply(schemas.WallOut(class_names=measured.frozen.classes, pictures=rows))


@evaluations.get(
    "/evaluations/<int:evaluation_id>/pictures/<int:picture_id>", responses={200: schemas.CompareOut}
)
def compare(path: schemas.ComparePath, query: schemas.ThresholdQuery) -> Response:
    """Truth and predictions of one picture, marked, at two thresholds."""
    measured = _measured(path.evaluation_id)
    index = measured.index_of(path.picture_id)
    return reply(
        schemas.CompareOut.model_validate(measured.compare(index, query.minimum_score, query.overlap_limit))
    )


@evaluations.get("/evaluations/<int:evaluation_id>/confusion", responses={200: schemas.ConfusionOut})
def confusion(path: schemas.EvaluationPath, query: schemas.ConfusionQuery) -> Response:
    """Who was taken for whom at two thresholds and an IoU."""
    measured = _measured(path.evaluation_id)
    made = judging.confusion_of(measured, query.minimum_score, query.overlap_limit, query.iou)
    return reply(schemas.ConfusionOut(class_names=measured.frozen.classes, counts=made.counts.tolist()))


@evaluations.get("/evaluations/<int:evaluation_id>/confusion/cell", responses={200: schemas.CellOut})
def cell(path: schemas.EvaluationPath, query: schemas.CellQuery) -> Response:
    """The boxes behind one cell of the confusion matrix."""
    measured = _measured(path.evaluation_id)
    found = judging.confused_boxes(
        measured, query.minimum_score, query.overlap_limit, query.iou, query.row, query.column
    )
    boxes = [schemas.ConfusedBox.model_validate(each) for each in found[:MOST_BOXES]]
    return reply(schemas.CellOut(total=len(found), boxes=boxes))


@evaluations.get("/evaluations/<int:evaluation_id>/operating", responses={200: schemas.OperatingOut})
def operating(path: schemas.EvaluationPath, query: schemas.OperatingQuery) -> Response:
    """Precision and recall of each class against the minimum score, and the score that a wish asks for."""
    chosen = judging.chosen_scores(
        _measured(path.evaluation_id),
        query.overlap_limit,
        query.wish,
        query.amount,
        query.miss_price,
        query.alarm_price,
    )
    return reply(
        schemas.OperatingOut(classes=[schemas.ClassOperating.model_validate(each) for each in chosen])
    )


def _measured(evaluation_id: int) -> work.Measured:
    return _opened(str(context().folder.root), evaluation_id)


@lru_cache(maxsize=4)
def _opened(_data: str, evaluation_id: int) -> work.Measured:
    """Finished evaluations never change, so the last few stay open."""
    with context().reading() as session:
        return work.Measured(context().folder, work.get_evaluation(session, evaluation_id))
