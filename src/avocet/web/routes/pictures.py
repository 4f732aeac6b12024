"""Pictures: lists, labels, parts, the bin, pixels and thumbnails."""

from pathlib import Path

from flask import Response, send_file
from flask_openapi3 import APIBlueprint, Tag

from avocet.store.tables import Picture
from avocet.web.context import context, moment, reply
from avocet.web.schemas import collect as schemas
from avocet.web.schemas.common import Problem, ProjectPath
from avocet.work import labels as work_labels
from avocet.work import listing
from avocet.work import media as work
from avocet.work import splits as work_splits
from avocet.work.attributes import list_attributes
from avocet.work.thumbnails import thumbnail
from avocet.work.tightening import tighten_boxes

pictures = APIBlueprint("pictures", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="pictures")])


def picture_out(picture: Picture) -> schemas.PictureOut:
    """A picture as the page sees it."""
    special = {"boxes", "tags", "labelled_at"}
    fields = {name: getattr(picture, name) for name in schemas.PictureOut.model_fields if name not in special}
    return schemas.PictureOut(
        **fields,
        boxes=picture.box_count,
        tags=[each.tag for each in picture.tags],
        labelled_at=moment(picture.labelled_at) if picture.labelled_at else None,
    )


def _filter(query: schemas.PictureQuery) -> listing.Filter:
    names = listing.Filter.__dataclass_fields__
    return listing.Filter(**{name: getattr(query, name) for name in names})


@pictures.get("/projects/<int:project_id>/pictures", responses={200: schemas.PicturePage})
def list_pictures(path: ProjectPath, query: schemas.PictureQuery) -> Response:
    """A page of pictures; `after` of the next page is `next_after`."""
    with context().reading() as session:
        rows = listing.list_pictures(
            session,
            path.project_id,
            _filter(query),
            query.after,
            query.limit,
            query.order,
            query.falling,
            query.skip,
        )
        total = listing.count_pictures(session, path.project_id, _filter(query)) if query.counted else None
        return reply(
            schemas.PicturePage(
                pictures=[picture_out(picture) for picture in rows],
                total=total,
                next_after=rows[-1].id if len(rows) == query.limit else None,
            )
        )


@pictures.get("/projects/<int:project_id>/picture-ids", responses={200: schemas.PictureIds})
def picture_ids(path: ProjectPath, query: schemas.PictureQuery) -> Response:
    """Ids of all pictures that a filter leaves, in order: what next and previous walk along."""
    with context().reading() as session:
        ids = listing.picture_ids(session, path.project_id, _filter(query), query.order, query.falling)
        return reply(schemas.PictureIds(ids=ids))


@pictures.get("/projects/<int:project_id>/choices", responses={200: schemas.ChoicesOut})
def choices(path: ProjectPath) -> Response:
    """Sources, tags and attributes that pictures can be filtered by."""
    with context().reading() as session:
        return reply(
            schemas.ChoicesOut(
                sources=listing.list_sources(session, path.project_id),
                tags=listing.list_tags(session, path.project_id),
                attributes=[each.name for each in list_attributes(session, path.project_id)],
            )
        )


@pictures.put("/projects/<int:project_id>/tags", responses={200: schemas.Tagged})
def set_tag(path: ProjectPath, body: schemas.TagChange) -> Response:
    """Put a tag on chosen pictures, or take it off."""
    with context().sessions.begin() as session:
        ids = listing.set_tag(session, path.project_id, body.ids, body.tag, body.on)
        return reply(schemas.Tagged(ids=ids))


@pictures.post("/pictures/<int:picture_id>/tightened", responses={200: schemas.BoxesOut})
def tighten(path: schemas.PicturePath, body: schemas.BoxesIn) -> Response:
    """Fit roughly drawn boxes to what they hold. Nothing is saved."""
    with context().reading() as session:
        picture = work.get_picture(session, path.picture_id)
    return reply(schemas.BoxesOut(boxes=tighten_boxes(context().folder, picture, body.boxes)))


@pictures.get("/pictures/<int:picture_id>", responses={200: schemas.PictureDetail})
def get_picture(path: schemas.PicturePath) -> Response:
    """One picture with its labels."""
    with context().reading() as session:
        return reply(_detail(work.get_picture(session, path.picture_id)))


@pictures.put("/pictures/<int:picture_id>/labels", responses={200: schemas.PictureDetail, 409: Problem})
def save_labels(path: schemas.PicturePath, body: schemas.LabelsIn) -> Response:
    """Replace a picture's boxes. A stale revision gets 409 with what is there now."""
    with context().sessions.begin() as session:
        picture = work.get_picture(session, path.picture_id)
        boxes = [
            work_labels.NewBox(box.class_id, box.corners, box.crowd, box.attributes, box.track)
            for box in body.boxes
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
            schemas.Changed(changed=listing.set_binned(session, path.project_id, body.ids, body.binned))
        )


@pictures.get("/projects/<int:project_id>/split", responses={200: schemas.SplitOut})
def get_split(path: ProjectPath) -> Response:
    """Labelled pictures in each part."""
    with context().reading() as session:
        return reply(_split(work_splits.labelled_by_part(session, path.project_id)))


@pictures.put("/projects/<int:project_id>/split", responses={200: schemas.SplitOut})
def split(path: ProjectPath, body: schemas.SplitIn) -> Response:
    """Split all pictures by ratio from a seed, whole clips together."""
    ratios = (body.training, body.validation, body.test)
    with context().sessions.begin() as session:
        return reply(
            _split(
                work_splits.split_pictures(session, path.project_id, ratios, body.seed, body.whole_sources)
            )
        )


@pictures.get("/pictures/<int:picture_id>/file")
def picture_file(path: schemas.PicturePath) -> Response:
    """The picture as it was added; a TIFF, which browsers do not show, as a JPEG."""
    with context().reading() as session:
        picture = work.get_picture(session, path.picture_id)
        return _cached(work.viewable_path(context().folder, picture), picture.content_hash)


@pictures.get("/pictures/<int:picture_id>/thumbnail")
def picture_thumbnail(path: schemas.PicturePath) -> Response:
    """The picture at most 320 pixels wide and high."""
    with context().reading() as session:
        picture = work.get_picture(session, path.picture_id)
    return _cached(thumbnail(context().folder, picture), f"{picture.content_hash}-small")


def _cached(path: Path, tag: str) -> Response:
    response = send_file(path, etag=tag, conditional=True, max_age=86400)
    response.headers["Cache-Control"] = "private, max-age=86400"
    return response


def _detail(picture: Picture) -> schemas.PictureDetail:
    return schemas.PictureDetail(
        picture=picture_out(picture),
        labels=schemas.LabelsOut.model_validate(work_labels.labels_of(picture)),
    )


def _split(counts: dict[str, int]) -> schemas.SplitOut:
    return schemas.SplitOut(**{name or "unassigned": count for name, count in counts.items()})
