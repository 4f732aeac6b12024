"""Detection runs: a model over clips and pictures, and what came of it."""

from pathlib import Path

from flask import Response, request, send_file
from flask_openapi3 import APIBlueprint, Tag
from pydantic import ValidationError

from avocet.store.tables import Detection
from avocet.web.context import context, job_out, reply
from avocet.web.problems import invalid_request
from avocet.web.schemas import use as schemas
from avocet.web.schemas.common import ProjectPath
from avocet.web.uploads import sent_files
from avocet.work.project.projects import get_project
from avocet.work.use import detections as work

use = APIBlueprint("use", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="use")])


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


@use.get("/projects/<int:project_id>/detections", responses={200: schemas.DetectionList})
def list_detections(path: ProjectPath) -> Response:
    """The project's detections, newest first."""
    with context().reading() as session:
        get_project(session, path.project_id)
        found = work.list_detections(session, path.project_id)
        return reply(schemas.DetectionList(detections=[_out(each) for each in found]))


@use.post("/detections", responses={202: schemas.DetectionOut})
def start_detection(body: schemas.DetectionIn) -> Response:
    """Run a model over a clip or pictures of the project."""
    return _start(body, [])


@use.post("/detections/upload", responses={202: schemas.DetectionOut})
def start_detection_on_files() -> Response:
    """Run a model over files that come along (multipart: `files`, and the same fields as a detection)."""
    try:
        body = schemas.DetectionIn.model_validate(request.form.to_dict())
    except ValidationError as error:
        return invalid_request(error)
    return _start(body, [(file.path, file.name) for file in sent_files()])


def _start(body: schemas.DetectionIn, files: list[tuple[Path, str]]) -> Response:
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
        out = _out(detection)
    context().enqueue(out.job.id, out.job.kind)
    return reply(out, 202)


@use.get("/detections/<int:detection_id>", responses={200: schemas.DetectionOut})
def get_detection(path: schemas.DetectionPath) -> Response:
    """One detection with its summary."""
    with context().reading() as session:
        return reply(_out(work.get_detection(session, path.detection_id)))


@use.get("/detections/<int:detection_id>/files/<path:name>", doc_ui=False)
def result_file(path: schemas.DetectionPath) -> Response:
    """A file of the results: an annotated copy, the JSON or the CSV."""
    name = str((request.view_args or {})["name"])
    with context().reading() as session:
        file = work.result_file(context().folder, work.get_detection(session, path.detection_id), name)
    return send_file(file, conditional=True, as_attachment="download" in request.args)
