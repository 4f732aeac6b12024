"""Evaluations as records: starting, figures, files, the wall of pictures."""

from contextlib import ExitStack
from pathlib import Path

from flask import Response, request, send_file
from flask_openapi3 import APIBlueprint, Tag
from pydantic import ValidationError

from avocet.core.errors import InputError
from avocet.store.tables import Evaluation
from avocet.web.context import context, job_out, moment, reply
from avocet.web.opened import opened
from avocet.web.problems import invalid_request
from avocet.web.schemas import judge as schemas
from avocet.web.schemas.common import BinIn, ProjectPath
from avocet.web.uploads import sent_file, stored
from avocet.work import evaluation_files
from avocet.work import evaluations as work
from avocet.work.media import viewable_path
from avocet.work.projects import get_project
from avocet.work.sheets import crop_jpeg
from avocet.work.thumbnails import thumbnail

evaluations = APIBlueprint("evaluations", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="evaluations")])


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


@evaluations.get("/projects/<int:project_id>/evaluations", responses={200: schemas.EvaluationList})
def list_evaluations(path: ProjectPath) -> Response:
    """The project's evaluations, newest first, and how often a test part was looked at."""
    with context().reading() as session:
        get_project(session, path.project_id)
        found = work.list_evaluations(session, path.project_id)
        looks = work.looks_at_test(session, path.project_id)
        return reply(schemas.EvaluationList(evaluations=[_out(each) for each in found], looks_at_test=looks))


@evaluations.post("/projects/<int:project_id>/evaluations", responses={202: schemas.EvaluationOut})
def start_evaluation(path: ProjectPath, body: schemas.EvaluationIn) -> Response:
    """Measure a run or an ensemble on a part of a snapshot."""
    return _start(path.project_id, body, {})


@evaluations.post("/projects/<int:project_id>/evaluations/upload", responses={202: schemas.EvaluationOut})
def start_with_files(path: ProjectPath) -> Response:
    """Measure what comes along (multipart: `order` as JSON, and `model`, `detections` or `truth` as files)."""
    try:
        body = schemas.EvaluationIn.model_validate_json(request.form.get("order", "{}"))
    except ValidationError as error:
        return invalid_request(error)
    with ExitStack() as stack:
        files = {}
        for kind in work.SENT:
            found = sent_file(kind)
            if found is not None:
                files[kind] = (stack.enter_context(stored(context().folder, *found)), found[1])
        if not files:
            raise InputError(f"no file was sent; send {', '.join(work.SENT)}")
        return _start(path.project_id, body, files)


def _start(project_id: int, body: schemas.EvaluationIn, files: dict[str, tuple[Path, str]]) -> Response:
    order = work.Order(**body.model_dump())
    with context().sessions.begin() as session:
        evaluation = work.start_evaluation(session, context().folder, project_id, order, files)
        job_id, kind, out = evaluation.job.id, evaluation.job.kind, _out(evaluation)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@evaluations.get("/evaluations/<int:evaluation_id>", responses={200: schemas.EvaluationOut})
def get_evaluation(path: schemas.EvaluationPath) -> Response:
    """One evaluation with its figures."""
    with context().reading() as session:
        return reply(_out(work.get_evaluation(session, path.evaluation_id)))


@evaluations.post("/evaluations/<int:evaluation_id>/again", responses={202: schemas.EvaluationOut})
def measure_again(path: schemas.EvaluationPath, body: schemas.ClassMapIn) -> Response:
    """Measure once more, with classes mapped to those of the truth."""
    with context().sessions.begin() as session:
        evaluation = work.measure_again(session, path.evaluation_id, body.class_map)
        job_id, kind, out = evaluation.job.id, evaluation.job.kind, _out(evaluation)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@evaluations.put("/evaluations/<int:evaluation_id>/binned", responses={200: schemas.EvaluationOut})
def bin_evaluation(path: schemas.EvaluationPath, body: BinIn) -> Response:
    """Put a measurement into the bin, or take it back."""
    with context().sessions.begin() as session:
        return reply(_out(work.bin_evaluation(session, path.evaluation_id, body.binned)))


@evaluations.post("/evaluations/<int:evaluation_id>/looks", responses={200: schemas.EvaluationOut})
def count_look(path: schemas.EvaluationPath) -> Response:
    """Note that a person opened the figures."""
    with context().sessions.begin() as session:
        return reply(_out(work.count_look(session, path.evaluation_id)))


@evaluations.get("/evaluations/<int:evaluation_id>/figures.json")
def figures_json(path: schemas.EvaluationPath) -> Response:
    """All figures and settings as JSON."""
    with context().reading() as session:
        evaluation = work.get_evaluation(session, path.evaluation_id)
        return _file(evaluation_files.report_json(evaluation), "application/json", evaluation, "json")


@evaluations.get("/evaluations/<int:evaluation_id>/figures.csv")
def figures_csv(path: schemas.EvaluationPath) -> Response:
    """Figures by class as CSV."""
    opened(path.evaluation_id)
    with context().reading() as session:
        evaluation = work.get_evaluation(session, path.evaluation_id)
        return _file(evaluation_files.report_csv(evaluation.report), "text/csv", evaluation, "csv")


@evaluations.get("/evaluations/<int:evaluation_id>/detections.json")
def detections_json(path: schemas.EvaluationPath, query: schemas.OverlapQuery) -> Response:
    """What was found, as COCO results."""
    content = evaluation_files.detections_json(opened(path.evaluation_id), query.overlap_limit)
    with context().reading() as session:
        evaluation = work.get_evaluation(session, path.evaluation_id)
        return _file(content, "application/json", evaluation, "detections.json")


@evaluations.get("/evaluations/<int:evaluation_id>/pictures", responses={200: schemas.WallOut})
def wall(path: schemas.EvaluationPath, query: schemas.ThresholdQuery) -> Response:
    """Hits, misses and false alarms of every picture at two thresholds."""
    measured = opened(path.evaluation_id)
    rows = [schemas.WallRow(**row) for row in measured.wall(query.minimum_score, query.overlap_limit)]
    return reply(schemas.WallOut(class_names=measured.classes, pictures=rows))


@evaluations.get("/evaluations/<int:evaluation_id>/marked", responses={200: schemas.MarkedOut})
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


@evaluations.get(
    "/evaluations/<int:evaluation_id>/pictures/<int:picture_id>", responses={200: schemas.CompareOut}
)
def compare(path: schemas.ComparePath, query: schemas.ThresholdQuery) -> Response:
    """Truth and predictions of one picture, marked, at two thresholds."""
    measured = opened(path.evaluation_id)
    index = measured.index_of(path.picture_id)
    return reply(
        schemas.CompareOut.model_validate(measured.compare(index, query.minimum_score, query.overlap_limit))
    )


@evaluations.get("/evaluations/<int:evaluation_id>/pictures/<int:picture_id>/file")
def picture_file(path: schemas.ComparePath) -> Response:
    """A picture that was measured, also one that is not in the project."""
    picture = opened(path.evaluation_id).picture(path.picture_id)
    return _cached(send_file(viewable_path(context().folder, picture), etag=picture.content_hash))


@evaluations.get("/evaluations/<int:evaluation_id>/pictures/<int:picture_id>/thumbnail")
def picture_thumbnail(path: schemas.ComparePath) -> Response:
    """The picture at most 320 pixels wide and high."""
    picture = opened(path.evaluation_id).picture(path.picture_id)
    return _cached(send_file(thumbnail(context().folder, picture), etag=f"{picture.content_hash}-small"))


@evaluations.get("/evaluations/<int:evaluation_id>/pictures/<int:picture_id>/crop")
def picture_crop(path: schemas.ComparePath, query: schemas.CropQuery) -> Response:
    """A box of the picture with a little surrounding."""
    picture = opened(path.evaluation_id).picture(path.picture_id)
    content = crop_jpeg(context().folder, picture, (query.x1, query.y1, query.x2, query.y2))
    return _cached(Response(content, mimetype="image/jpeg"))


def _cached(response: Response) -> Response:
    response.headers["Cache-Control"] = "private, max-age=86400"
    return response


def _file(content: str, kind: str, evaluation: Evaluation, suffix: str) -> Response:
    safe = "".join(letter if letter.isalnum() else "-" for letter in evaluation.name)
    called = f"{safe}-{evaluation.part.value if evaluation.part else 'outside'}.{suffix}"
    response = Response(content, mimetype=kind)
    response.headers.set("Content-Disposition", "attachment", filename=called)
    return response
