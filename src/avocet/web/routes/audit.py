"""Looking through the labels: figures, crops by class, what looks wrong."""

from flask import Response
from flask_openapi3 import Tag
from sqlalchemy.orm import Session

from avocet.web.browser_cache import kept_by_browser
from avocet.web.context import change_many, change_out, context, moment, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas import audit as schemas
from avocet.web.schemas.common import JobStarted, ProjectPath
from avocet.web.schemas.labels import ChangeOut
from avocet.web.schemas.pictures import CropQuery, PicturePath
from avocet.work.audit import findings as work_findings
from avocet.work.audit import mending
from avocet.work.audit.crops import crop_jpeg
from avocet.work.audit.figures import figures as work_figures
from avocet.work.audit.kept import kept_findings
from avocet.work.audit.sheets import class_sheet
from avocet.work.job_givens import BoxesToChange, ForProject
from avocet.work.job_kinds import CHANGE_BOXES, LOOK_AT_CROPS, LOOK_FOR_FINDINGS
from avocet.work.job_outcomes import ChangeMade
from avocet.work.pictures.files import get_picture

audit = DescribedBlueprint("audit", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="audit")])


@audit.get("/projects/<int:project_id>/figures", responses={200: schemas.FiguresOut})
def figures(path: ProjectPath, query: schemas.FiguresQuery) -> Response:
    """How many boxes, of what, how large and where; small ones at an input side."""
    found = work_figures(context().labels.of(path.project_id), query.side, query.part)
    return reply(schemas.FiguresOut.model_validate(found))


@audit.get("/projects/<int:project_id>/sheet", responses={200: schemas.SheetOut})
def sheet(path: ProjectPath, query: schemas.SheetQuery) -> Response:
    """All boxes of a class, ordered; a page of them."""
    columns = context().labels.of(path.project_id)
    with context().reading() as session:
        found = class_sheet(
            session, context().folder, path.project_id, columns, query.class_id, query.order, query.descending,
            query.start, query.limit, query.origin,
        )  # fmt: skip
        return reply(schemas.SheetOut.model_validate(found))


@audit.post("/projects/<int:project_id>/crop-looks", responses={202: JobStarted})
def look_at_crops(path: ProjectPath) -> Response:
    """Look at the content of all boxes that were not looked at yet, in the background."""
    given = ForProject(project_id=path.project_id)
    return start_job(path.project_id, LOOK_AT_CROPS, "Look at the content of all boxes", given)


@audit.get("/pictures/<int:picture_id>/crop")
def crop(path: PicturePath, query: CropQuery) -> Response:
    """A box with a little surrounding as a small square picture."""
    with context().reading() as session:
        picture = get_picture(session, path.picture_id)
    content = crop_jpeg(context().folder, picture, (query.x1, query.y1, query.x2, query.y2))
    return kept_by_browser(Response(content, mimetype="image/jpeg"), may_change=picture.white is not None)


@audit.post("/projects/<int:project_id>/boxes", responses={200: ChangeMade, 202: JobStarted})
def change_boxes(path: ProjectPath, body: schemas.BoxChange) -> Response:
    """Give selected boxes another class, or delete them; very many in the background."""
    given = BoxesToChange(project_id=path.project_id, ids=body.ids, class_id=body.class_id)
    title = "Delete boxes" if body.class_id is None else "Turn boxes into another class"
    return change_many(path.project_id, CHANGE_BOXES, title, given, len(body.ids))


@audit.get("/projects/<int:project_id>/findings", responses={200: schemas.FindingsOut})
def findings(path: ProjectPath, query: schemas.FindingsQuery) -> Response:
    """What looked wrong with the labels when they were last looked through."""
    with context().reading() as session:
        return reply(_findings(session, path.project_id, query.with_fine))


@audit.post("/projects/<int:project_id>/findings", responses={202: JobStarted})
def look_for_findings(path: ProjectPath) -> Response:
    """Look through all labels, in the background."""
    given = ForProject(project_id=path.project_id)
    return start_job(path.project_id, LOOK_FOR_FINDINGS, "Look through the labels", given)


@audit.put("/projects/<int:project_id>/findings", responses={200: schemas.FindingsOut})
def mark_fine(path: ProjectPath, query: schemas.FindingsQuery, body: schemas.FindingsFineIn) -> Response:
    """Say that findings are fine as they are, or take that back."""
    with context().sessions.begin() as session:
        work_findings.mark_fine(session, path.project_id, body.keys, body.fine)
    with context().reading() as session:
        return reply(_findings(session, path.project_id, query.with_fine))


@audit.post("/projects/<int:project_id>/findings/cut", responses={200: ChangeOut})
def cut_to_picture(path: ProjectPath, body: schemas.CutIn) -> Response:
    """Cut a picture's boxes at its edges."""
    with context().sessions.begin() as session:
        return reply(change_out(mending.cut_to_picture(session, path.project_id, body.picture_id)))


@audit.post("/projects/<int:project_id>/findings/join", responses={200: ChangeMade})
def join_parts(path: ProjectPath, body: schemas.JoinIn) -> Response:
    """Bring near-identical pictures into the part of the first."""
    return reply(mending.join_parts(context().sessions, path.project_id, body.picture_ids))


def _findings(session: Session, project_id: int, with_fine: bool) -> schemas.FindingsOut:
    kept = kept_findings(session, context().folder, project_id)
    shown = [schemas.FindingOut.model_validate(vars(each) | {"fine": False}) for each in kept.listed]
    if with_fine:
        shown += [schemas.FindingOut.model_validate(vars(each) | {"fine": True}) for each in kept.fine]
        order = list(work_findings.TITLES)
        shown.sort(key=lambda each: order.index(each.kind))
    return schemas.FindingsOut(
        listed=shown,
        counts=kept.counts,
        fine=len(kept.fine),
        titles=work_findings.TITLES,
        fresh=kept.fresh,
        looked_at=moment(kept.looked_at) if kept.looked_at else None,
    )
