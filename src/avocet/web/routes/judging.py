"""What a finished evaluation tells beyond its figures."""

import math

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from avocet.web.context import context, reply
from avocet.web.opened import opened
from avocet.web.schemas import judge as schemas
from avocet.work import judging as work
from avocet.work import label_doubts
from avocet.work.side_by_side import put_side_by_side

MOST_BOXES = 200
"""Boxes behind a figure that are shown."""

judging = APIBlueprint("judging", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="judging")])


@judging.get("/evaluations/<int:evaluation_id>/confusion", responses={200: schemas.ConfusionOut})
def confusion(path: schemas.EvaluationPath, query: schemas.ConfusionQuery) -> Response:
    """Who was taken for whom at two thresholds and an IoU."""
    measured = opened(path.evaluation_id)
    made = work.confusion_of(measured, query.minimum_score, query.overlap_limit, query.iou)
    return reply(schemas.ConfusionOut(class_names=measured.classes, counts=made.counts.tolist()))


@judging.get("/evaluations/<int:evaluation_id>/confusion/cell", responses={200: schemas.CellOut})
def cell(path: schemas.EvaluationPath, query: schemas.CellQuery) -> Response:
    """The boxes behind one cell of the confusion matrix."""
    found = work.confused_boxes(
        opened(path.evaluation_id),
        query.minimum_score,
        query.overlap_limit,
        query.iou,
        query.row,
        query.column,
    )
    boxes = [schemas.ConfusedBox.model_validate(each) for each in found[:MOST_BOXES]]
    return reply(schemas.CellOut(total=len(found), boxes=boxes))


@judging.get("/evaluations/<int:evaluation_id>/operating", responses={200: schemas.OperatingOut})
def operating(path: schemas.EvaluationPath, query: schemas.OperatingQuery) -> Response:
    """Precision and recall of each class against the minimum score, and the score that a wish asks for."""
    chosen = work.chosen_scores(
        opened(path.evaluation_id),
        query.overlap_limit,
        query.wish,
        query.amount,
        query.miss_price,
        query.alarm_price,
    )
    return reply(
        schemas.OperatingOut(classes=[schemas.ClassOperating.model_validate(each) for each in chosen])
    )


@judging.get("/evaluations/<int:evaluation_id>/curves", responses={200: schemas.CurvesOut})
def curves(path: schemas.EvaluationPath, query: schemas.CurveQuery) -> Response:
    """Precision-recall curves by class and IoU."""
    made = work.curves_of(
        opened(path.evaluation_id), query.minimum_score, query.overlap_limit, tuple(query.ious)
    )
    return reply(schemas.CurvesOut(curves=[schemas.PrecisionRecall.model_validate(each) for each in made]))


@judging.get("/evaluations/<int:evaluation_id>/calibration", responses={200: schemas.CalibrationOut})
def calibration(path: schemas.EvaluationPath, query: schemas.CalibrationQuery) -> Response:
    """How often a score is right."""
    made = work.calibration_of(opened(path.evaluation_id), query.overlap_limit, query.class_index)
    return reply(
        schemas.CalibrationOut(
            edges=made.edges.tolist(),
            counts=made.counts.tolist(),
            mean_score=[_known(value) for value in made.mean_score.tolist()],
            share_right=[_known(value) for value in made.share_right.tolist()],
            expected_error=_known(made.expected_error),
            lowest_score=work.CALIBRATED_SCORE,
        )
    )


@judging.get("/evaluations/<int:evaluation_id>/mistakes", responses={200: schemas.MistakesOut})
def mistakes(path: schemas.EvaluationPath, query: schemas.ThresholdQuery) -> Response:
    """Why it was wrong: each kind of error, and what mending it would bring."""
    kinds = work.mistakes_of(opened(path.evaluation_id), query.minimum_score, query.overlap_limit)
    return reply(schemas.MistakesOut(kinds=[schemas.MistakeKind.model_validate(each) for each in kinds]))


@judging.get("/evaluations/<int:evaluation_id>/mistakes/boxes", responses={200: schemas.MistakenOut})
def mistaken(path: schemas.EvaluationPath, query: schemas.MistakenQuery) -> Response:
    """The errors of one kind."""
    found = work.mistaken_boxes(
        opened(path.evaluation_id), query.minimum_score, query.overlap_limit, query.kind
    )
    boxes = [schemas.MistakenBox.model_validate(each) for each in found[:MOST_BOXES]]
    return reply(schemas.MistakenOut(total=len(found), boxes=boxes))


@judging.get("/evaluations/<int:evaluation_id>/doubts", responses={200: schemas.DoubtList})
def doubts(path: schemas.EvaluationPath, query: schemas.OverlapQuery) -> Response:
    """Likely labelling mistakes, most likely first."""
    measured = opened(path.evaluation_id)
    with context().reading() as session:
        found = label_doubts.list_doubts(session, measured, query.overlap_limit)
    shown = [schemas.DoubtOut.model_validate(each) for each in found[:MOST_BOXES]]
    return reply(schemas.DoubtList(total=len(found), doubts=shown))


@judging.post(
    "/evaluations/<int:evaluation_id>/doubts/<int:number>/accept", responses={200: schemas.AcceptedOut}
)
def accept(path: schemas.DoubtPath, query: schemas.OverlapQuery) -> Response:
    """Change the labels of today as the model says."""
    measured = opened(path.evaluation_id)
    with context().sessions.begin() as session:
        change = label_doubts.accept_prediction(session, measured, query.overlap_limit, path.number)
        return reply(schemas.AcceptedOut(change_id=change.id, title=change.title))


@judging.put("/evaluations/<int:evaluation_id>/doubts/<int:number>/fine", responses={200: schemas.DoubtList})
def call_it_fine(path: schemas.DoubtPath, query: schemas.OverlapQuery, body: schemas.FineIn) -> Response:
    """Say that a label is right, or take that back."""
    measured = opened(path.evaluation_id)
    with context().sessions.begin() as session:
        label_doubts.call_it_fine(session, measured, query.overlap_limit, path.number, body.fine)
        found = label_doubts.list_doubts(session, measured, query.overlap_limit)
    shown = [schemas.DoubtOut.model_validate(each) for each in found[:MOST_BOXES]]
    return reply(schemas.DoubtList(total=len(found), doubts=shown))


@judging.get("/evaluations/<int:evaluation_id>/beside/<int:other_id>", responses={200: schemas.BesideOut})
def beside(path: schemas.BesidePath, query: schemas.ThresholdQuery) -> Response:
    """Two evaluations side by side, and whether they differ by more than chance."""
    first, second = opened(path.evaluation_id), opened(path.other_id)
    made = put_side_by_side(first, second, query.minimum_score, query.overlap_limit)
    return reply(
        schemas.BesideOut(
            first_name=first.name,
            second_name=second.name,
            words=made.words,
            figures=[schemas.FigureCompared.model_validate(each) for each in made.figures],
            pictures=[schemas.PictureCompared.model_validate(each) for each in made.pictures],
            both_right=made.both_right,
            only_first=made.only_first,
            only_second=made.only_second,
            neither=made.neither,
        )
    )


def _known(value: float) -> float | None:
    return None if math.isnan(value) else value
