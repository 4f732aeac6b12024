"""Thumbnails, and what is told from a picture's look: made in the background where they are missing."""

from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session, sessionmaker

from avocet.core.errors import InputError
from avocet.core.looks import picture_look
from avocet.files import write_bytes
from avocet.media.pictures import read_picture, thumbnail_jpeg
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Job, JobState, Picture
from avocet.work.jobs import create_job
from avocet.work.media import THUMBNAIL, get_picture, picture_path
from avocet.work.problems import NotFound
from avocet.work.progress import Reporter, Stopped


def thumbnail(folder: DataFolder, picture: Picture) -> Path:
    """Path of the picture's thumbnail, made now if there is none yet."""
    path = folder.thumbnail(picture.project_id, picture.content_hash)
    if not path.is_file():
        write_bytes(
            path, thumbnail_jpeg(read_picture(picture_path(folder, picture), picture.name), THUMBNAIL)
        )
    return path


def look_later(session: Session, project_id: int) -> Job | None:
    """Record a job that looks at new pictures, unless one is waiting already."""
    waiting = select(Job).where(
        Job.project_id == project_id, Job.kind == "look_at_pictures", Job.state == JobState.WAITING
    )
    if session.scalar(waiting) is not None:
        return None
    arguments = {"project_id": project_id}
    return create_job(session, project_id, "look_at_pictures", "Make thumbnails", arguments)


def look_at_pictures(
    sessions: sessionmaker[Session], folder: DataFolder, project_id: int, reporter: Reporter
) -> dict[str, int]:
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
        with sessions.begin() as session:
            get_picture(session, picture_id).look = picture_look(pixels)
        done += 1
        reporter.progress(number, len(todo), f"{number} of {len(todo)} pictures")
    return {"pictures": done}
