"""Pictures: lists, labels, parts, the bin, pixels and thumbnails."""

from pathlib import Path

from flask import Response, send_file
from flask_openapi3 import APIBlueprint, Tag

from avocet.store.tables import Picture
from avocet.web.context import context, reply
from avocet.web.schemas import collect as schemas
from avocet.web.schemas.common import Problem, ProjectPath
from avocet.work import labels as work_labels
from avocet.work import media as work
from avocet.work import splits as work_splits

pictures = APIBlueprint("pictures", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="pictures")])


def picture_out(picture: Picture, boxes: int) -> schemas.PictureOut:
    """A picture as the page sees it."""
    fields = {name: getattr(picture, name) for name in schemas.PictureOut.model_fields if name != "boxes"}
    return schemas.PictureOut(**fields, boxes=boxes)


def _filter(query: schemas.PictureQuery) -> work.Filter:
    return work.Filter(query.state, query.part, query.class_id, query.name, query.binned)


@pictures.get("/projects/<int:project_id>/pictures", responses={200: schemas.PicturePage})
def list_pictures(path: ProjectPath, query: schemas.PictureQuery) -> Response:
    """A page of pictures; `after` of the next page is `next_after`."""
    with context().sessions() as session:
        rows = work.list_pictures(session, path.project_id, _filter(query), query.after, query.limit)
        return reply(
            schemas.PicturePage(
                pictures=[picture_out(picture, boxes) for picture, boxes in rows],
                total=work.count_pictures(session, path.project_id, _filter(query)),
                next_after=rows[-1][0].id if len(rows) == query.limit else None,
            )
        )


@pictures.get("/projects/<int:project_id>/picture-ids", responses={200: schemas.PictureIds})
def picture_ids(path: ProjectPath, query: schemas.PictureQuery) -> Response:
    """Ids of all pictures that a filter leaves, in order: what next and previous walk along."""
    with context().sessions() as session:
        return reply(schemas.PictureIds(ids=work.picture_ids(session, path.project_id, _filter(query))))


@pictures.get("/pictures/<int:picture_id>", responses={200: schemas.PictureDetail})
def get_picture(path: schemas.PicturePath) -> Response:
    """One picture with its labels."""
    with context().sessions() as session:
        return reply(_detail(work.get_picture(session, path.picture_id)))


@pictures.put("/pictures/<int:picture_id>/labels", responses={200: schemas.PictureDetail, 409: Problem})
def save_labels(path: schemas.PicturePath, body: schemas.LabelsIn) -> Response:
    """Replace a picture's boxes. A stale revision gets 409 with what is there now."""
    with context().sessions.begin() as session:
        picture = work.get_picture(session, path.picture_id)
        boxes = [
            work_labels.NewBox(box.class_id, box.corners, box.crowd, box.attributes) for box in body.boxes
        ]
        return reply(_detail(work_labels.save_labels(session, picture, body.revision, boxes, body.state)))


@pictures.put("/projects/<int:project_id>/parts", responses={200: schemas.Changed})
def set_part(path: ProjectPath, body: schemas.PartChange) -> Response:
    """Put chosen pictures into a part by hand."""
    with context().sessions.begin() as session:
        changed = work_splits.set_part(session, path.project_id, body.ids, body.part)
        return reply(schemas.Changed(changed=changed))


@pictures.put("/projects/<int:project_id>/bin", responses={200: schemas.Changed})
def set_binned(path: ProjectPath, body: schemas.BinChange) -> Response:
    """Put chosen pictures into the bin, or take them back."""
    with context().sessions.begin() as session:
        return reply(
            schemas.Changed(changed=work.set_binned(session, path.project_id, body.ids, body.binned))
        )


@pictures.get("/projects/<int:project_id>/split", responses={200: schemas.SplitOut})
def get_split(path: ProjectPath) -> Response:
    """Labelled pictures in each part."""
    with context().sessions() as session:
        return reply(_split(work_splits.labelled_by_part(session, path.project_id)))


@pictures.put("/projects/<int:project_id>/split", responses={200: schemas.SplitOut})
def split(path: ProjectPath, body: schemas.SplitIn) -> Response:
    """Split all pictures by ratio from a seed, whole clips together."""
    ratios = (body.training, body.validation, body.test)
    with context().sessions.begin() as session:
        return reply(_split(work_splits.split_pictures(session, path.project_id, ratios, body.seed)))


@pictures.get("/pictures/<int:picture_id>/file")
def picture_file(path: schemas.PicturePath) -> Response:
    """The picture as it was added; a TIFF, which browsers do not show, as a JPEG."""
    with context().sessions() as session:
        picture = work.get_picture(session, path.picture_id)
        return _cached(work.viewable_path(context().folder, picture), picture.content_hash)


@pictures.get("/pictures/<int:picture_id>/thumbnail")
def picture_thumbnail(path: schemas.PicturePath) -> Response:
    """The picture at most 320 pixels wide and high."""
    with context().sessions() as session:
        picture = work.get_picture(session, path.picture_id)
    return _cached(work.thumbnail(context().folder, picture), f"{picture.content_hash}-small")


def _cached(path: Path, tag: str) -> Response:
    response = send_file(path, etag=tag, conditional=True, max_age=86400)
    response.headers["Cache-Control"] = "private, max-age=86400"
    return response


def _detail(picture: Picture) -> schemas.PictureDetail:
    return schemas.PictureDetail(
        picture=picture_out(picture, len(picture.boxes)),
        labels=schemas.LabelsOut.model_validate(work_labels.labels_of(picture)),
    )


def _split(counts: dict[str, int]) -> schemas.SplitOut:
    return schemas.SplitOut(**{name or "unassigned": count for name, count in counts.items()})
