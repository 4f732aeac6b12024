"""Detections: running a model over clips and pictures, and what came of it."""

from contextlib import ExitStack

from flask import Response, request, send_file
from flask_openapi3 import APIBlueprint, Tag
from pydantic import ValidationError

from avocet.store.tables import Detection
from avocet.web.context import context, job_out, reply
from avocet.web.problems import invalid_request
from avocet.web.schemas import learn as schemas
from avocet.web.schemas.common import ProjectPath
from avocet.web.uploads import sent_files, stored
from avocet.work import detections as work
from avocet.work.projects import get_project

detections = APIBlueprint("detections", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="detections")])


def _out(detection: Detection) -> schemas.DetectionOut:
    return schemas.DetectionOut(
        id=detection.id,
        run_id=detection.run_id,
        ensemble_id=detection.ensemble_id,
        run_name=detection.run.name
        if detection.run
        else detection.ensemble.name
        if detection.ensemble
        else "",
        source=detection.source,
        minimum_score=detection.minimum_score,
        overlap_limit=detection.overlap_limit,
        minimum_scores=detection.minimum_scores,
        summary=detection.summary,
        created_at=detection.created_at.isoformat() + "Z",
        job=job_out(detection.job),
    )


@detections.get("/projects/<int:project_id>/detections", responses={200: schemas.DetectionList})
def list_detections(path: ProjectPath) -> Response:
    """The project's detections, newest first."""
    with context().reading() as session:
        get_project(session, path.project_id)
        found = work.list_detections(session, path.project_id)
        return reply(schemas.DetectionList(detections=[_out(each) for each in found]))


@detections.post("/detections", responses={202: schemas.DetectionOut})
def start_detection(body: schemas.DetectionIn) -> Response:
    """Run a model over a clip or pictures of the project."""
    return _start(body, [])


@detections.post("/detections/upload", responses={202: schemas.DetectionOut})
def start_detection_on_files() -> Response:
    """Run a model over files that come along (multipart: `files`, and the same fields as a detection)."""
    try:
        body = schemas.DetectionIn.model_validate(request.form.to_dict())
    except ValidationError as error:
        return invalid_request(error)
    with ExitStack() as stack:
        files = [
            (stack.enter_context(stored(context().folder, file, name)), name) for file, name in sent_files()
        ]
        return _start(body, files)


def _start(body: schemas.DetectionIn, files: list) -> Response:
    source = {"clip_id": body.clip_id, "pictures": body.pictures, "state": body.state}
    with context().sessions.begin() as session:
        detection = work.start_detection(
            session,
            context().folder,
            body.run_id,
            source,
            body.minimum_score,
            body.overlap_limit,
            files,
            body.ensemble_id,
            body.chosen_scores,
        )
        job_id, kind, out = detection.job.id, detection.job.kind, _out(detection)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@detections.get("/detections/<int:detection_id>", responses={200: schemas.DetectionOut})
def get_detection(path: schemas.DetectionPath) -> Response:
    """One detection with its summary."""
    with context().reading() as session:
        return reply(_out(work.get_detection(session, path.detection_id)))


@detections.get("/detections/<int:detection_id>/files/<path:name>", doc_ui=False)
def result_file(path: schemas.DetectionPath) -> Response:
    """A file of the results: an annotated copy, the JSON or the CSV."""
    name = str((request.view_args or {})["name"])
    with context().reading() as session:
        file = work.result_file(context().folder, work.get_detection(session, path.detection_id), name)
    return send_file(file, conditional=True, as_attachment="download" in request.args)
