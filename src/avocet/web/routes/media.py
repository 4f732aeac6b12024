"""Pictures and clips coming in."""

from pathlib import Path, PurePosixPath

from flask import Response
from flask_openapi3 import APIBlueprint, Tag
from werkzeug.datastructures import FileStorage

from avocet.archives import can_be_opened, is_archive
from avocet.core.errors import InputError
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.web.context import context, job_out, reply
from avocet.web.schemas import collect as schemas
from avocet.web.schemas.common import JobOut, ProjectPath
from avocet.web.schemas.learn import JobPath
from avocet.web.uploads import sent_files, staged_upload, stored
from avocet.work import intake
from avocet.work import media as work
from avocet.work.jobs import again, create_job, get_job
from avocet.work.projects import get_project
from avocet.work.staging import staged_files, unstage
from avocet.work.thumbnails import look_later

RESUMABLE = frozenset({"sample_clip", "take_archive", "take_folder", "study"})

media = APIBlueprint("media", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="media")])


@media.post("/projects/<int:project_id>/media", responses={200: schemas.UploadOut})
def upload(path: ProjectPath) -> Response:
    """Add pictures and clips (multipart field `files`). Each file has an outcome of its own."""
    outcomes = [_take_in(path.project_id, file, name) for file, name in sent_files()]
    if any(each.outcome == "added" for each in outcomes):
        with context().sessions.begin() as session:
            job = look_later(session, path.project_id)
        if job is not None:
            context().enqueue(job.id, job.kind)
    return reply(schemas.UploadOut(files=outcomes))


@media.get("/projects/<int:project_id>/clips", responses={200: schemas.ClipList})
def list_clips(path: ProjectPath) -> Response:
    """The project's clips."""
    with context().reading() as session:
        clips = [schemas.ClipOut.model_validate(clip) for clip in work.list_clips(session, path.project_id)]
        return reply(schemas.ClipList(clips=clips))


@media.post("/clips/<int:clip_id>/frames", responses={202: schemas.JobStarted})
def sample_clip(path: schemas.ClipPath, body: schemas.SampleIn) -> Response:
    """Take frames from a clip into the project, in the background."""
    with context().sessions.begin() as session:
        clip = work.get_clip(session, path.clip_id)
        arguments = {"clip_id": clip.id, "per_second": body.per_second}
        job = create_job(session, clip.project_id, "sample_clip", f"Take frames from {clip.name}", arguments)
    context().enqueue(job.id, job.kind)
    return reply(schemas.JobStarted(job=job_out(job)), 202)


@media.get("/folders", responses={200: schemas.FolderList})
def list_folders(query: schemas.FolderQuery) -> Response:
    """Folders of the server that pictures may be taken from: all roots, or what is in one folder."""
    roots = context().roots
    wanted = [query.path] if query.path else [str(root) for root in roots]
    folders = [schemas.FolderOut.model_validate(intake.look_into(roots, each)) for each in wanted]
    return reply(schemas.FolderList(folders=folders))


@media.post("/projects/<int:project_id>/folders", responses={202: schemas.JobStarted})
def take_folder(path: ProjectPath, body: schemas.FolderIn) -> Response:
    """Take the pictures of a folder on the server, copied or read where they lie, in the background."""
    place = intake.allowed(context().roots, body.path)
    given = {"project_id": path.project_id, "path": str(place), "copied": body.copied}
    return reply(schemas.JobStarted(job=_start(path.project_id, "take_folder", place.name, given)), 202)


@media.post("/jobs/<int:job_id>/resume", responses={202: schemas.JobStarted})
def resume(path: JobPath) -> Response:
    """Go on with a stopped or interrupted job that keeps what it has done, and does it not twice."""
    with context().sessions.begin() as session:
        job = get_job(session, path.job_id)
        if job.kind not in RESUMABLE:
            raise InputError(f"{job.title} cannot be resumed here")
        job = again(session, path.job_id)
    context().enqueue(job.id, job.kind)
    return reply(schemas.JobStarted(job=job_out(job)), 202)


def _start(project_id: int, kind: str, name: str, given: dict) -> JobOut:
    with context().sessions.begin() as session:
        get_project(session, project_id)
        job = create_job(session, project_id, kind, f"Take pictures from {name}", given)
    context().enqueue(job.id, job.kind)
    return job_out(job)


def _take_in(project_id: int, file: FileStorage, name: str) -> schemas.FileOutcome:
    folder = context().folder
    try:
        if is_archive(name):
            token = staged_upload(folder, [(file, name)])
            if not can_be_opened(staged_files(folder, token)[0][0]):
                unstage(folder, token)
                raise InputError(f"{name} is not a zip or tar archive that can be read")
            given = {"project_id": project_id, "token": token}
            job = _start(project_id, "take_archive", name, given)
            return schemas.FileOutcome(name=name, outcome="archive", job_id=job.id)
        with stored(folder, file, name) as path, context().sessions.begin() as session:
            if Path(name).suffix.lower() in CLIP_SUFFIXES:
                clip = work.add_clip(session, folder, project_id, path, name)
                return schemas.FileOutcome(name=name, outcome="clip", clip_id=clip.id)
            added = work.add_picture(
                session, folder, project_id, path, name, source=_source(name), look_later=True
            )
            return schemas.FileOutcome(
                name=name,
                outcome="added" if added.fresh else "already there",
                message="" if added.fresh else f"The same picture is there as {added.picture.name}",
                picture_id=added.picture.id,
            )
    except InputError as error:
        return schemas.FileOutcome(name=name, outcome="refused", message=str(error))


def _source(name: str) -> str:
    """The folder that a file was sent with, if any."""
    parent = PurePosixPath(name).parent.as_posix()
    return "" if parent == "." else parent
