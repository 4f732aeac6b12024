"""Annotation files in and out."""

import json

from flask import Response
from flask_openapi3 import APIBlueprint, Tag
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.formats.coco import read_coco, write_coco
from avocet.formats.record import Record
from avocet.web.context import context, reply
from avocet.web.schemas.collect import PreviewOut
from avocet.web.schemas.common import ProjectPath
from avocet.web.uploads import sent_files, stored
from avocet.work import exchange as work
from avocet.work.projects import get_project

exchange = APIBlueprint("exchange", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="exchange")])


@exchange.post("/projects/<int:project_id>/annotations/preview", responses={200: PreviewOut})
def preview(path: ProjectPath) -> Response:
    """What taking over a COCO JSON file (multipart field `files`) would do. Changes nothing."""
    record, name = _sent_record()
    with context().sessions() as session:
        get_project(session, path.project_id)
        return reply(PreviewOut.model_validate(work.preview(session, path.project_id, record, name)))


@exchange.post("/projects/<int:project_id>/annotations", responses={200: PreviewOut})
def take_over(path: ProjectPath) -> Response:
    """Give unlabelled pictures the boxes of a COCO JSON file, matched by name."""
    record, name = _sent_record()
    with context().sessions.begin() as session:
        get_project(session, path.project_id)
        return reply(PreviewOut.model_validate(work.take_over(session, path.project_id, record, name)))


@exchange.get("/projects/<int:project_id>/annotations")
def export(path: ProjectPath) -> Response:
    """All labelled pictures as COCO JSON."""
    with context().sessions() as session:
        name = get_project(session, path.project_id).name
        content = _coco_text(session, path.project_id)
    response = Response(content, mimetype="application/json")
    safe = "".join(letter if letter.isalnum() else "-" for letter in name)
    response.headers.set("Content-Disposition", "attachment", filename=f"{safe}-coco.json")
    return response


def _coco_text(session: Session, project_id: int) -> str:
    return json.dumps(write_coco(work.export_record(session, project_id)), ensure_ascii=False)


def _sent_record() -> tuple[Record, str]:
    files = sent_files()
    if len(files) != 1:
        raise InputError(f"send one annotation file at a time, not {len(files)}")
    file, name = files[0]
    with stored(context().folder, file, name) as path:
        return read_coco(path, name), name
