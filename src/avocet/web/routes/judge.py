"""Measurements: starting, figures, files, and what is told from them."""

import io
import math
from pathlib import Path
from typing import Any

from flask import Response, request, send_file
from flask_openapi3 import Tag
from pydantic import ValidationError

from avocet.core.errors import InputError
from avocet.core.score.calibration import CALIBRATED_SCORE, Reliability
from avocet.files import safe_name
from avocet.store.folder import look_name
from avocet.store.tables import Evaluation
from avocet.web.browser_cache import kept_by_browser
from avocet.web.context import context, job_out, moment, reply
from avocet.web.document import DescribedBlueprint
from avocet.web.opened import opened
from avocet.web.problems import invalid_request
from avocet.web.schemas import judge as schemas
from avocet.web.schemas.common import BinIn, BinQuery, ProjectPath
from avocet.web.schemas.pictures import CropQuery
from avocet.web.uploads import sent_file
from avocet.work.audit.crops import crop_jpeg
from avocet.work.judge import answers
from avocet.work.judge import doubts as work_doubts
from avocet.work.judge import evaluations as work
from avocet.work.judge import files as evaluation_files
from avocet.work.judge.beside import put_side_by_side
from avocet.work.pictures.files import viewable_path
from avocet.work.pictures.thumbnails import thumbnail
from avocet.work.project.projects import get_project

judge = DescribedBlueprint("judge", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="judge")])


def _out(evaluation: Evaluation) -> schemas.EvaluationOut:
    return schemas.EvaluationOut(
        id=evaluation.id,
        name=evaluation.name,
        run_id=evaluation.run_id,
        ensemble_id=evaluation.ensemble_id,
        snapshot_id=evaluation.snapshot_id,
        snapshot_hash=evaluation.snapshot.content_hash if evaluation.snapshot else None,
        part=evaluation.part,
        settings=evaluation.settings,
        report=schemas.ReportOut.model_validate(evaluation.report) if evaluation.report else None,
        looks=evaluation.looks,
        created_at=moment(evaluation.created_at),
        job=job_out(evaluation.job),
    )


@judge.get("/projects/<int:project_id>/evaluations", responses={200: schemas.EvaluationList})
def list_evaluations(path: ProjectPath, query: BinQuery) -> Response:
    """The project's evaluations, newest first, and how often a test part was looked at."""
    with context().reading() as session:
        get_project(session, path.project_id)
        found = work.list_evaluations(session, path.project_id, query.binned)
        looks = work.looks_at_test(session, path.project_id)
        return reply(schemas.EvaluationList(evaluations=[_out(each) for each in found], looks_at_test=looks))


@judge.post("/projects/<int:project_id>/evaluations", responses={202: schemas.EvaluationOut})
def start_evaluation(path: ProjectPath, body: schemas.EvaluationIn) -> Response:
    """Measure a run or an ensemble on a part of a snapshot."""
    return _start(path.project_id, body, {})


@judge.post("/projects/<int:project_id>/evaluations/upload", responses={202: schemas.EvaluationOut})
def start_with_files(path: ProjectPath) -> Response:
    """Measure what comes along (multipart: `order` as JSON, and `model`, `detections` or `truth` as files)."""
    try:
        body = schemas.EvaluationIn.model_validate_json(request.form.get("order", "{}"))
    except ValidationError as error:
        return invalid_request(error)
    files = {kind: found for kind in work.SENT if (found := sent_file(kind)) is not None}
    if not files:
        raise InputError(f"no file was sent; send {', '.join(work.SENT)}")
    return _start(path.project_id, body, {kind: (each.path, each.name) for kind, each in files.items()})


def _start(project_id: int, body: schemas.EvaluationIn, files: dict[str, tuple[Path, str]]) -> Response:
    order = work.Order(**body.model_dump())
    with context().reading() as session:
        prepared = work.prepare_evaluation(session, context().folder, project_id, order, files)
    with context().sessions.begin() as session:
        out = _out(work.record_evaluation(session, context().folder, prepared))
    context().enqueue(out.job.id, out.job.kind)
    return reply(out, 202)


@judge.get("/evaluations/<int:evaluation_id>", responses={200: schemas.EvaluationOut})
def get_evaluation(path: schemas.EvaluationPath) -> Response:
    """One evaluation with its figures."""
    with context().reading() as session:
        return reply(_out(work.get_evaluation(session, path.evaluation_id)))


@judge.post("/evaluations/<int:evaluation_id>/again", responses={202: schemas.EvaluationOut})
def measure_again(path: schemas.EvaluationPath, body: schemas.ClassMapIn) -> Response:
    """Measure once more, with classes mapped to those of the truth."""
    with context().sessions.begin() as session:
        evaluation = work.measure_again(session, path.evaluation_id, body.class_map)
        out = _out(evaluation)
    context().enqueue(out.job.id, out.job.kind)
    return reply(out, 202)


@judge.put("/evaluations/<int:evaluation_id>/binned", responses={200: schemas.EvaluationOut})
def bin_evaluation(path: schemas.EvaluationPath, body: BinIn) -> Response:
    """Move a measurement to the bin, or restore it."""
    with context().sessions.begin() as session:
        return reply(_out(work.bin_evaluation(session, path.evaluation_id, body.binned)))


@judge.post("/evaluations/<int:evaluation_id>/looks", responses={200: schemas.EvaluationOut})
def count_look(path: schemas.EvaluationPath) -> Response:
    """Note that a person opened the figures."""
    with context().sessions.begin() as session:
        return reply(_out(work.count_look(session, path.evaluation_id)))


@judge.get("/evaluations/<int:evaluation_id>/figures.json")
def figures_json(path: schemas.EvaluationPath) -> Response:
    """All figures and settings as JSON."""
    with context().reading() as session:
        evaluation = work.get_evaluation(session, path.evaluation_id)
        return _file(evaluation_files.report_json(evaluation), "application/json", evaluation, "json")


@judge.get("/evaluations/<int:evaluation_id>/figures.csv")
def figures_csv(path: schemas.EvaluationPath, query: schemas.ThresholdQuery) -> Response:
    """Figures by class as CSV, with boxes counted at two thresholds."""
    measured = opened(path.evaluation_id)
    with context().reading() as session:
        evaluation = work.get_evaluation(session, path.evaluation_id)
        content = evaluation_files.report_csv(
            evaluation.report, measured, query.minimum_score, query.overlap_limit
        )
        return _file(content, "text/csv", evaluation, "csv")


@judge.get("/evaluations/<int:evaluation_id>/detections.json")
def detections_json(path: schemas.EvaluationPath, query: schemas.OverlapQuery) -> Response:
    """What was found, as COCO results."""
    content = evaluation_files.detections_json(opened(path.evaluation_id), query.overlap_limit)
    with context().reading() as session:
        evaluation = work.get_evaluation(session, path.evaluation_id)
        return _file(content, "application/json", evaluation, "detections.json")


@judge.get("/evaluations/<int:evaluation_id>/pictures", responses={200: schemas.WallOut})
def wall(path: schemas.EvaluationPath, query: schemas.ThresholdQuery) -> Response:
    """Hits, misses and false alarms of every picture and every class at two thresholds."""
    measured = opened(path.evaluation_id)
    counted = measured.wall(query.minimum_score, query.overlap_limit)
    rows = [schemas.WallRow(**row) for row in counted.pictures]
    of_class = [schemas.ClassCounts(**each) for each in counted.classes]
    return reply(schemas.WallOut(class_names=measured.classes, pictures=rows, classes=of_class))


@judge.get("/evaluations/<int:evaluation_id>/marked", responses={200: schemas.MarkedOut})
def marked(path: schemas.EvaluationPath, query: schemas.MarkedQuery) -> Response:
    """Truths and predictions of some pictures, marked, at two thresholds."""
    measured = opened(path.evaluation_id)
    found = []
    for number in query.picture_ids:
        index = measured.index_of(number)
        picture = measured.pictures[index]
        boxes = measured.compare(index, query.minimum_score, query.overlap_limit)
        found.append(
            schemas.MarkedPicture(picture_id=number, width=picture.width, height=picture.height, **boxes)
        )
    return reply(schemas.MarkedOut(class_names=measured.classes, pictures=found))


@judge.get("/evaluations/<int:evaluation_id>/pictures/<int:picture_id>", responses={200: schemas.CompareOut})
def compare(path: schemas.MeasuredPicturePath, query: schemas.ThresholdQuery) -> Response:
    """Truth and predictions of one picture, marked, at two thresholds."""
    measured = opened(path.evaluation_id)
    index = measured.index_of(path.picture_id)
    return reply(
        schemas.CompareOut.model_validate(measured.compare(index, query.minimum_score, query.overlap_limit))
    )


@judge.get("/evaluations/<int:evaluation_id>/pictures/<int:picture_id>/file")
def picture_file(path: schemas.MeasuredPicturePath) -> Response:
    """A picture that was measured, also one that is not in the project."""
    picture = opened(path.evaluation_id).picture(path.picture_id)
    return kept_by_browser(
        send_file(
            viewable_path(context().folder, picture), etag=look_name(picture.content_hash, picture.white)
        )
    )


@judge.get("/evaluations/<int:evaluation_id>/pictures/<int:picture_id>/thumbnail")
def picture_thumbnail(path: schemas.MeasuredPicturePath) -> Response:
    """The picture at most 320 pixels wide and high."""
    picture = opened(path.evaluation_id).picture(path.picture_id)
    return kept_by_browser(
        send_file(
            thumbnail(context().folder, picture),
            etag=f"{look_name(picture.content_hash, picture.white)}-small",
        )
    )


@judge.get("/evaluations/<int:evaluation_id>/pictures/<int:picture_id>/crop")
def picture_crop(path: schemas.MeasuredPicturePath, query: CropQuery) -> Response:
    """A box of the picture with a little surrounding."""
    picture = opened(path.evaluation_id).picture(path.picture_id)
    content = crop_jpeg(context().folder, picture, (query.x1, query.y1, query.x2, query.y2))
    return kept_by_browser(Response(content, mimetype="image/jpeg"))


def _file(content: str, kind: str, evaluation: Evaluation, suffix: str) -> Response:
    called = (
        f"{safe_name(evaluation.name)}-{evaluation.part.value if evaluation.part else 'outside'}.{suffix}"
    )
    return send_file(io.BytesIO(content.encode()), kind, as_attachment=True, download_name=called)


MOST_BOXES = 200
"""Boxes behind a figure that are shown."""


@judge.get("/evaluations/<int:evaluation_id>/confusion", responses={200: schemas.ConfusionOut})
def confusion(path: schemas.EvaluationPath, query: schemas.ConfusionQuery) -> Response:
    """Who was taken for whom at two thresholds and an IoU."""
    measured = opened(path.evaluation_id)
    made = answers.confusion_of(measured, query.minimum_score, query.overlap_limit, query.iou)
    return reply(schemas.ConfusionOut(class_names=measured.classes, counts=made.counts.tolist()))


@judge.get("/evaluations/<int:evaluation_id>/confusion/cell", responses={200: schemas.CellOut})
def cell(path: schemas.EvaluationPath, query: schemas.ConfusionCellQuery) -> Response:
    """The boxes behind one cell of the confusion matrix."""
    found = answers.confused_boxes(
        opened(path.evaluation_id),
        query.minimum_score,
        query.overlap_limit,
        query.iou,
        query.row,
        query.column,
    )
    boxes = [schemas.ConfusedBox.model_validate(each) for each in found[:MOST_BOXES]]
    return reply(schemas.CellOut(total=len(found), boxes=boxes))


@judge.get("/evaluations/<int:evaluation_id>/operating", responses={200: schemas.OperatingOut})
def operating(path: schemas.EvaluationPath, query: schemas.OperatingQuery) -> Response:
    """Precision and recall of each class against the minimum score, and the score that a wish asks for."""
    chosen = answers.chosen_scores(
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


@judge.get("/evaluations/<int:evaluation_id>/curves", responses={200: schemas.CurvesOut})
def curves(path: schemas.EvaluationPath, query: schemas.CurveQuery) -> Response:
    """Precision-recall curves by class and IoU."""
    made = answers.curves_of(
        opened(path.evaluation_id), query.minimum_score, query.overlap_limit, tuple(query.ious)
    )
    return reply(schemas.CurvesOut(curves=[schemas.PrecisionRecall.model_validate(each) for each in made]))


@judge.get("/evaluations/<int:evaluation_id>/calibration", responses={200: schemas.CalibrationOut})
def calibration(path: schemas.EvaluationPath, query: schemas.CalibrationQuery) -> Response:
    """How often a score is right."""
    made, before = answers.calibration_of(opened(path.evaluation_id), query.overlap_limit, query.class_index)
    former = None if before is None else schemas.ReliabilityOut(**_bins(before))
    return reply(schemas.CalibrationOut(**_bins(made), lowest_score=CALIBRATED_SCORE, before=former))


def _bins(made: Reliability) -> dict[str, Any]:
    return {
        "edges": made.edges.tolist(),
        "counts": made.counts.tolist(),
        "mean_score": [_known(value) for value in made.mean_score.tolist()],
        "share_right": [_known(value) for value in made.share_right.tolist()],
        "expected_error": _known(made.expected_error),
    }


@judge.get("/evaluations/<int:evaluation_id>/mistakes", responses={200: schemas.MistakesOut})
def mistakes(path: schemas.EvaluationPath, query: schemas.ThresholdQuery) -> Response:
    """Why it was wrong: each kind of error, and what mending it would bring."""
    kinds = answers.mistakes_of(opened(path.evaluation_id), query.minimum_score, query.overlap_limit)
    return reply(schemas.MistakesOut(kinds=[schemas.MistakeKind.model_validate(each) for each in kinds]))


@judge.get("/evaluations/<int:evaluation_id>/mistakes/boxes", responses={200: schemas.MistakenOut})
def mistaken(path: schemas.EvaluationPath, query: schemas.MistakenQuery) -> Response:
    """The errors of one kind."""
    found = answers.mistaken_boxes(
        opened(path.evaluation_id), query.minimum_score, query.overlap_limit, query.kind
    )
    boxes = [schemas.MistakenBox.model_validate(each) for each in found[:MOST_BOXES]]
    return reply(schemas.MistakenOut(total=len(found), boxes=boxes))


@judge.get("/evaluations/<int:evaluation_id>/doubts", responses={200: schemas.DoubtList})
def doubts(path: schemas.EvaluationPath, query: schemas.OverlapQuery) -> Response:
    """Likely labelling mistakes, most likely first."""
    measured = opened(path.evaluation_id)
    with context().reading() as session:
        found = work_doubts.list_doubts(session, measured, query.overlap_limit)
    shown = [schemas.DoubtOut.model_validate(each) for each in found[:MOST_BOXES]]
    return reply(schemas.DoubtList(total=len(found), doubts=shown))


@judge.post(
    "/evaluations/<int:evaluation_id>/doubts/<int:number>/accept", responses={200: schemas.AcceptedOut}
)
def accept(path: schemas.DoubtPath, query: schemas.OverlapQuery) -> Response:
    """Change the labels of today as the model says."""
    measured = opened(path.evaluation_id)
    with context().sessions.begin() as session:
        change = work_doubts.accept_prediction(session, measured, query.overlap_limit, path.number)
        return reply(schemas.AcceptedOut(change_id=change.id, title=change.title))


@judge.put("/evaluations/<int:evaluation_id>/doubts/<int:number>/fine", responses={200: schemas.DoubtList})
def call_it_fine(path: schemas.DoubtPath, query: schemas.OverlapQuery, body: schemas.DoubtFineIn) -> Response:
    """Say that a label is right, or take that back."""
    measured = opened(path.evaluation_id)
    with context().sessions.begin() as session:
        work_doubts.call_it_fine(session, measured, query.overlap_limit, path.number, body.fine)
        found = work_doubts.list_doubts(session, measured, query.overlap_limit)
    shown = [schemas.DoubtOut.model_validate(each) for each in found[:MOST_BOXES]]
    return reply(schemas.DoubtList(total=len(found), doubts=shown))


@judge.get("/evaluations/<int:evaluation_id>/beside/<int:other_id>", responses={200: schemas.BesideOut})
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
