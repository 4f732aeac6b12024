"""Looking through the labels: figures, crops by class, what looks wrong."""

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from avocet.web.context import context, job_out, reply
from avocet.web.routes.classes import change_out
from avocet.web.schemas import labels as schemas
from avocet.web.schemas.collect import CropQuery, JobStarted, PicturePath
from avocet.web.schemas.common import ProjectPath
from avocet.work import auditing, sheets
from avocet.work.figures import figures as work_figures
from avocet.work.jobs import create_job
from avocet.work.media import get_picture
from avocet.work.projects import get_project

audit = APIBlueprint("audit", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="audit")])


@audit.get("/projects/<int:project_id>/figures", responses={200: schemas.FiguresOut})
def figures(path: ProjectPath, query: schemas.FiguresQuery) -> Response:
    """How many boxes, of what, how large and where; small ones at an input side."""
    with context().reading() as session:
        found = work_figures(session, path.project_id, query.side, query.part)
        return reply(schemas.FiguresOut.model_validate(found))


@audit.get("/projects/<int:project_id>/sheet", responses={200: schemas.SheetOut})
def sheet(path: ProjectPath, query: schemas.SheetQuery) -> Response:
    """All boxes of a class, ordered; a page of them."""
    with context().reading() as session:
        found = sheets.class_sheet(
            session, path.project_id, query.class_id, query.order, query.falling, query.start, query.limit
        )
        return reply(schemas.SheetOut.model_validate(found))


@audit.post("/projects/<int:project_id>/crop-looks", responses={202: JobStarted})
def look_at_crops(path: ProjectPath) -> Response:
    """Look at the content of all boxes that were not looked at yet, in the background."""
    with context().sessions.begin() as session:
        get_project(session, path.project_id)
        given = {"project_id": path.project_id}
        job = create_job(session, path.project_id, "look_at_crops", "Look at the content of all boxes", given)
    context().enqueue(job.id, job.kind)
    return reply(JobStarted(job=job_out(job)), 202)


@audit.get("/pictures/<int:picture_id>/crop")
def crop(path: PicturePath, query: CropQuery) -> Response:
    """A box with a little surrounding as a small square picture."""
    with context().reading() as session:
        picture = get_picture(session, path.picture_id)
    content = sheets.crop_jpeg(context().folder, picture, (query.x1, query.y1, query.x2, query.y2))
    response = Response(content, mimetype="image/jpeg")
    response.headers["Cache-Control"] = "private, max-age=86400"
    response.set_etag(f"{picture.content_hash[:24]}-{query.x1}-{query.y1}-{query.x2}-{query.y2}")
    return response


@audit.post("/projects/<int:project_id>/boxes", responses={200: schemas.BoxesChanged})
def change_boxes(path: ProjectPath, body: schemas.BoxChange) -> Response:
    """Give chosen boxes another class, or delete them."""
    with context().sessions.begin() as session:
        change, changed = sheets.change_boxes(session, path.project_id, body.ids, body.class_id)
        return reply(schemas.BoxesChanged(changed=changed, change=change_out(change)))


@audit.get("/projects/<int:project_id>/findings", responses={200: schemas.FindingsOut})
def findings(path: ProjectPath, query: schemas.FindingsQuery) -> Response:
    """What looks wrong with the labels."""
    with context().reading() as session:
        found = auditing.find_mistakes(session, context().folder, path.project_id, query.with_fine)
        return reply(schemas.FindingsOut(**_fields(found), titles=auditing.TITLES))


@audit.put("/projects/<int:project_id>/findings", responses={200: schemas.Done})
def mark_fine(path: ProjectPath, body: schemas.FineIn) -> Response:
    """Say that findings are fine as they are, or take that back."""
    with context().sessions.begin() as session:
        auditing.mark_fine(session, path.project_id, body.keys, body.fine)
    return reply(schemas.Done())


def _fields(found: auditing.Findings) -> dict:
    listed = [schemas.FindingOut.model_validate(each) for each in found.listed]
    return {"listed": listed, "counts": found.counts, "fine": found.fine}
