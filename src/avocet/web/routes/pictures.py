"""Pictures and clips: coming in, lists, parts, the bin, pixels and thumbnails."""

from pathlib import Path, PurePosixPath

from flask import Response, send_file
from flask_openapi3 import Tag

from avocet.archives import can_be_opened, is_archive
from avocet.core.errors import InputError
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.store.folder import look_name
from avocet.store.tables import Picture
from avocet.web.browser_cache import kept_by_browser
from avocet.web.context import change_many, context, moment, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas import pictures as schemas
from avocet.web.schemas.common import JobStarted, ProjectPath, Selection
from avocet.web.schemas.labels import LabelsOut
from avocet.web.uploads import ArrivedFile, arrived_files
from avocet.work.clips import clips as work_clips
from avocet.work.job_givens import (
    FolderToTake,
    PicturesToBin,
    PicturesToFinish,
    PicturesToPart,
    PicturesToTag,
    SentArchive,
    SplitOrder,
)
from avocet.work.job_kinds import (
    MARK_DONE,
    SET_BINNED,
    SET_PART,
    SET_TAG,
    SPLIT_PICTURES,
    TAKE_ARCHIVE,
    TAKE_FOLDER,
)
from avocet.work.job_outcomes import ChangeMade, FileTaken
from avocet.work.jobs import create_job
from avocet.work.labels.attributes import list_attributes
from avocet.work.labels.boxes import labels_of
from avocet.work.pictures import intake, listing
from avocet.work.pictures import splits as work_splits
from avocet.work.pictures.adding import Arrival, take_picture
from avocet.work.pictures.files import get_picture as find_picture
from avocet.work.pictures.files import viewable_path
from avocet.work.pictures.staging import stage
from avocet.work.pictures.thumbnails import look_later, thumbnail
from avocet.work.pictures.tightening import tighten_boxes
from avocet.work.project.projects import get_project
from avocet.work.use.proposals import proposals_of

pictures = DescribedBlueprint("pictures", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="pictures")])


def picture_out(picture: Picture) -> schemas.PictureOut:
    """A picture as the page sees it."""
    special = {"boxes", "tags", "labelled_at", "proposed"}
    fields = {name: getattr(picture, name) for name in schemas.PictureOut.model_fields if name not in special}
    return schemas.PictureOut(
        **fields,
        boxes=picture.box_count,
        tags=[each.tag for each in picture.tags],
        labelled_at=moment(picture.labelled_at) if picture.labelled_at else None,
    )


def _listed(picture: listing.Listed, proposed: int) -> schemas.PictureOut:
    fields = picture._asdict()
    fields["labelled_at"] = moment(picture.labelled_at) if picture.labelled_at else None
    return schemas.PictureOut(**fields, proposed=proposed)


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
            query.descending,
            query.skip,
        )
        proposed = proposals_of(session, [each.id for each in rows])
        total = listing.count_pictures(session, path.project_id, _filter(query)) if query.counted else None
        return reply(
            schemas.PicturePage(
                pictures=[_listed(picture, proposed.get(picture.id, 0)) for picture in rows],
                total=total,
                next_after=rows[-1].id if len(rows) == query.limit else None,
            )
        )


@pictures.get("/projects/<int:project_id>/picture-ids", responses={200: schemas.PictureIds})
def picture_ids(path: ProjectPath, query: schemas.PictureQuery) -> Response:
    """Ids of all pictures that a filter leaves, in order: what next and previous walk along."""
    with context().reading() as session:
        ids = listing.picture_ids(session, path.project_id, _filter(query), query.order, query.descending)
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


@pictures.put("/projects/<int:project_id>/tags", responses={200: ChangeMade, 202: JobStarted})
def set_tag(path: ProjectPath, body: schemas.TagChange) -> Response:
    """Put a tag on selected pictures, or take it off; very many in the background."""
    given = PicturesToTag(project_id=path.project_id, ids=body.ids, tag=body.tag, on=body.on)
    title = f"{'Add' if body.on else 'Remove'} the tag {body.tag}"
    return change_many(path.project_id, SET_TAG, title, given, len(body.ids))


@pictures.post("/pictures/<int:picture_id>/tightened", responses={200: schemas.BoxesOut})
def tighten(path: schemas.PicturePath, body: schemas.BoxesIn) -> Response:
    """Fit roughly drawn boxes to what they hold. Nothing is saved."""
    with context().reading() as session:
        picture = find_picture(session, path.picture_id)
    return reply(schemas.BoxesOut(boxes=tighten_boxes(context().folder, picture, body.boxes)))


@pictures.get("/pictures/<int:picture_id>", responses={200: schemas.PictureDetail})
def get_picture(path: schemas.PicturePath) -> Response:
    """One picture with its labels."""
    with context().reading() as session:
        return reply(detail_out(find_picture(session, path.picture_id)))


@pictures.put("/projects/<int:project_id>/parts", responses={200: ChangeMade, 202: JobStarted})
def set_part(path: ProjectPath, body: schemas.PartChange) -> Response:
    """Move selected pictures to a part by hand; very many in the background."""
    given = PicturesToPart(project_id=path.project_id, ids=body.ids, part=body.part)
    title = f"Move pictures to {body.part or 'unassigned'}"
    return change_many(path.project_id, SET_PART, title, given, len(body.ids))


@pictures.put("/projects/<int:project_id>/done", responses={200: ChangeMade, 202: JobStarted})
def mark_done(path: ProjectPath, body: Selection) -> Response:
    """Mark selected pictures in progress as done; very many in the background."""
    given = PicturesToFinish(project_id=path.project_id, ids=body.ids)
    return change_many(path.project_id, MARK_DONE, "Mark pictures as done", given, len(body.ids))


@pictures.put("/projects/<int:project_id>/bin", responses={200: ChangeMade, 202: JobStarted})
def set_binned(path: ProjectPath, body: schemas.BinChange) -> Response:
    """Move selected pictures to the bin, or restore them; very many in the background."""
    given = PicturesToBin(project_id=path.project_id, ids=body.ids, binned=body.binned)
    title = "Move pictures to the bin" if body.binned else "Restore pictures"
    return change_many(path.project_id, SET_BINNED, title, given, len(body.ids))


@pictures.get("/projects/<int:project_id>/split", responses={200: schemas.SplitOut})
def get_split(path: ProjectPath) -> Response:
    """Labelled pictures in each part."""
    with context().reading() as session:
        counts = work_splits.labelled_by_part(session, path.project_id)
        wholes = work_splits.count_wholes(session, path.project_id)
        return reply(schemas.SplitOut(**counts, wholes=wholes.with_sources, whole_clips=wholes.clips_only))


@pictures.put("/projects/<int:project_id>/split", responses={202: JobStarted})
def split(path: ProjectPath, body: schemas.SplitIn) -> Response:
    """Split all pictures by ratio from a seed, whole clips together, in the background."""
    ratios = (body.training, body.validation, body.test)
    if sum(ratios) <= 0:
        raise InputError(f"split ratios must be 0 or more and not all 0, not {list(ratios)}")
    given = SplitOrder(
        project_id=path.project_id, ratios=ratios, seed=body.seed, whole_sources=body.whole_sources
    )
    return start_job(path.project_id, SPLIT_PICTURES, "Split the pictures", given)


@pictures.get("/pictures/<int:picture_id>/file")
def picture_file(path: schemas.PicturePath) -> Response:
    """The picture as it was added; a TIFF, which browsers do not show, as a JPEG."""
    with context().reading() as session:
        picture = find_picture(session, path.picture_id)
        return _cached(viewable_path(context().folder, picture), picture)


@pictures.get("/pictures/<int:picture_id>/thumbnail")
def picture_thumbnail(path: schemas.PicturePath) -> Response:
    """The picture at most 320 pixels wide and high."""
    with context().reading() as session:
        picture = find_picture(session, path.picture_id)
    return _cached(thumbnail(context().folder, picture), picture, "-small")


def _cached(path: Path, picture: Picture, size: str = "") -> Response:
    tag = look_name(picture.content_hash, picture.white)
    return kept_by_browser(send_file(path, etag=tag + size), may_change=picture.white is not None)


def detail_out(picture: Picture) -> schemas.PictureDetail:
    """A picture with its labels as the page sees them."""
    return schemas.PictureDetail(
        picture=picture_out(picture),
        labels=LabelsOut.model_validate(labels_of(picture)),
    )


@pictures.post("/projects/<int:project_id>/media", responses={200: schemas.UploadOut})
def upload(path: ProjectPath) -> Response:
    """Add pictures and clips (multipart field `files`). Each file has an outcome of its own."""
    with context().reading() as session:
        get_project(session, path.project_id)
    outcomes = [_take_in(path.project_id, file) for file in arrived_files()]
    if any(each.outcome == "added" for each in outcomes):
        with context().sessions.begin() as session:
            job = look_later(session, path.project_id)
        if job is not None:
            context().enqueue(job.id, job.kind)
    return reply(schemas.UploadOut(files=outcomes))


@pictures.get("/folders", responses={200: schemas.FolderList})
def list_folders(query: schemas.FolderQuery) -> Response:
    """Folders of the server that pictures may be taken from: all roots, or what is in one folder."""
    roots = context().roots
    wanted = [query.path] if query.path else [str(root) for root in roots]
    folders = [schemas.FolderOut.model_validate(intake.look_into(roots, each)) for each in wanted]
    return reply(schemas.FolderList(folders=folders))


@pictures.post("/projects/<int:project_id>/folders", responses={202: JobStarted})
def take_folder(path: ProjectPath, body: schemas.FolderIn) -> Response:
    """Take the pictures of a folder on the server, copied or read where they lie, in the background."""
    place = intake.allowed(context().roots, body.path)
    given = FolderToTake(project_id=path.project_id, path=str(place), copied=body.copied)
    return start_job(path.project_id, TAKE_FOLDER, f"Take pictures from {place.name}", given)


def _take_in(project_id: int, file: ArrivedFile) -> FileTaken:
    folder, sessions, name = context().folder, context().sessions, file.name
    try:
        if file.fault:
            raise InputError(file.fault)
        if is_archive(name):
            if not can_be_opened(file.path):
                raise InputError(f"{name} is not a zip or tar archive that can be read")
            given = SentArchive(project_id=project_id, token=stage(folder, [(file.path, name)]))
            with sessions.begin() as session:
                job = create_job(session, project_id, TAKE_ARCHIVE, f"Take pictures from {name}", given)
            context().enqueue(job.id, job.kind)
            return FileTaken(name=name, outcome="archive", job_id=job.id)
        if Path(name).suffix.lower() in CLIP_SUFFIXES:
            clip = work_clips.take_clip(sessions, folder, project_id, file.path, name, file.digest, "move")
            return FileTaken(name=name, outcome="clip", clip_id=clip.id)
        arrival = Arrival(file.path, name, file.digest, source=_source(name), keep="move", seen="decoded")
        added = take_picture(sessions, folder, project_id, arrival)
        return FileTaken(
            name=name,
            outcome="added" if added.fresh else "already there",
            message=added.remark,
            picture_id=added.picture.id,
        )
    except InputError as error:
        return FileTaken(name=name, outcome="refused", message=folder.without_place(str(error)))


def _source(name: str) -> str:
    """The folder that a file was sent with, if any."""
    parent = PurePosixPath(name).parent.as_posix()
    return "" if parent == "." else parent
