"""Thumbnails, and what is told from a picture's look: made in the background where they are missing."""

from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.labels.looks import picture_look
from avocet.files import write_bytes
from avocet.media.pictures import read_picture, thumbnail_jpeg, thumbnail_of
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Job, JobState, Picture
from avocet.work.job_kinds import LOOK_AT_PICTURES, ForProject, Task
from avocet.work.job_outcomes import PicturesSeen
from avocet.work.jobs import create_job
from avocet.work.pictures.adding import THUMBNAIL
from avocet.work.pictures.files import StoredPicture, get_picture, picture_path
from avocet.work.problems import NotFound
from avocet.work.progress import Reporter, Stopped


def thumbnail(folder: DataFolder, picture: Picture | StoredPicture) -> Path:
    """Path of the picture's thumbnail, made now if there is none yet."""
    path = folder.thumbnail(picture.project_id, picture.content_hash)
    if not path.is_file():
        write_bytes(path, thumbnail_of(picture_path(folder, picture), THUMBNAIL, picture.name))
    return path


def look_later(session: Session, project_id: int) -> Job | None:
    """Record a job that looks at new pictures, unless one is waiting already."""
    waiting = select(Job).where(
        Job.project_id == project_id, Job.kind == LOOK_AT_PICTURES.key, Job.state == JobState.WAITING
    )
    if session.scalar(waiting) is not None:
        return None
    return create_job(
        session, project_id, LOOK_AT_PICTURES, "Make thumbnails", ForProject(project_id=project_id)
    )


def do_looking(task: Task[ForProject]) -> PicturesSeen:
    """Make thumbnails in the background."""
    return look_at_pictures(task.sessions, task.folder, task.given.project_id, task.reporter)


def look_at_pictures(
    sessions: Sessions, folder: DataFolder, project_id: int, reporter: Reporter
) -> PicturesSeen:
    """Make the missing thumbnails of a project, and keep the look of pictures that have none.

    A picture whose file is gone or changed is passed over: the grid says so where it is shown.
    """
    with reading(sessions)() as session:
        todo = list(
            session.scalars(
                select(Picture.id).where(
                    Picture.project_id == project_id, Picture.look.is_(None), Picture.binned_at.is_(None)
                )
            )
        )
    done = 0
    for number, picture_id in enumerate(todo, start=1):
        if reporter.should_stop():
            raise Stopped
        with reading(sessions)() as session:
            picture = get_picture(session, picture_id)
        try:
            pixels = read_picture(picture_path(folder, picture), picture.name)
        except (InputError, NotFound):
            continue
        path = folder.thumbnail(project_id, picture.content_hash)
        if not path.is_file():
            write_bytes(path, thumbnail_jpeg(pixels, THUMBNAIL))
        look = picture_look(pixels)
        with sessions.begin() as session:
            get_picture(session, picture_id).look = look
        done += 1
        reporter.progress(number, len(todo), f"{number} of {len(todo)} pictures")
    return PicturesSeen(pictures=done)
