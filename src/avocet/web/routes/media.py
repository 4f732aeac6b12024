"""Pictures and clips coming in."""

from pathlib import Path

from flask import Response
from flask_openapi3 import APIBlueprint, Tag
from werkzeug.datastructures import FileStorage

from avocet.core.errors import InputError
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.web.context import context, job_out, reply
from avocet.web.schemas import collect as schemas
from avocet.web.schemas.common import ProjectPath
from avocet.web.uploads import sent_files, stored
from avocet.work import media as work
from avocet.work.jobs import create_job

media = APIBlueprint("media", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="media")])


@media.post("/projects/<int:project_id>/media", responses={200: schemas.UploadOut})
def upload(path: ProjectPath) -> Response:
    """Add pictures and clips (multipart field `files`). Each file has an outcome of its own."""
    outcomes = [_take_in(path.project_id, file, name) for file, name in sent_files()]
    return reply(schemas.UploadOut(files=outcomes))


@media.get("/projects/<int:project_id>/clips", responses={200: schemas.ClipList})
def list_clips(path: ProjectPath) -> Response:
    """The project's clips."""
    with context().sessions() as session:
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


def _take_in(project_id: int, file: FileStorage, name: str) -> schemas.FileOutcome:
    folder = context().folder
    try:
        with stored(folder, file, name) as path, context().sessions.begin() as session:
            if Path(name).suffix.lower() in CLIP_SUFFIXES:
                clip = work.add_clip(session, folder, project_id, path, name)
                return schemas.FileOutcome(name=name, outcome="clip", clip_id=clip.id)
            added = work.add_picture(session, folder, project_id, path, name)
            return schemas.FileOutcome(
                name=name,
                outcome="added" if added.fresh else "already there",
                message="" if added.fresh else f"The same picture is there as {added.picture.name}",
                picture_id=added.picture.id,
            )
    except InputError as error:
        return schemas.FileOutcome(name=name, outcome="refused", message=str(error))
