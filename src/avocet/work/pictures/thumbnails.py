"""Thumbnails, and what is told from a picture's look: made in the background where they are missing."""

from pathlib import Path

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.cores import on_all_cores
from avocet.files import write_bytes
from avocet.media.pictures import encode_jpeg, small_picture
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.rows import among
from avocet.store.tables import Job, JobState, Picture
from avocet.work.job_givens import ForProject
from avocet.work.job_kinds import LOOK_AT_PICTURES, Task
from avocet.work.job_outcomes import PicturesSeen
from avocet.work.jobs import create_job
from avocet.work.pictures.files import StoredPicture, picture_path
from avocet.work.pictures.small import LONGER_SIDE, QUALITY, keep_small
from avocet.work.problems import NotFound
from avocet.work.progress import Reporter, Stopped

AT_ONCE = 48
"""Pictures between two looks whether to stop."""

MOST_MESSAGES = 100


def thumbnail(folder: DataFolder, picture: Picture | StoredPicture) -> Path:
    """Path of the picture's thumbnail, made now if there is none yet."""
    path = folder.thumbnail(picture.project_id, picture.content_hash, picture.white)
    if not path.is_file():
        small = small_picture(picture_path(folder, picture), LONGER_SIDE, picture.name, picture.white)
        write_bytes(path, encode_jpeg(small, QUALITY))
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

    A picture whose file is damaged or changed is passed over and told of. One whose file is gone is
    passed over without a word, as a disk may be away for a while: the grid says so where it is shown.
    """
    with reading(sessions)() as session:
        todo = list(
            session.scalars(
                select(Picture.id).where(
                    Picture.project_id == project_id, Picture.look.is_(None), Picture.binned_at.is_(None)
                )
            )
        )
    seen, unreadable = 0, list[str]()
    for at in range(0, len(todo), AT_ONCE):
        if reporter.should_stop():
            raise Stopped
        with reading(sessions)() as session:
            chosen = select(Picture).where(among(Picture.id, todo[at : at + AT_ONCE]))
            pictures = session.scalars(chosen).all()
        looks = on_all_cores(lambda picture: _look(folder, picture), pictures)
        unreadable += [str(look) for look in looks if isinstance(look, InputError)]
        found = [
            {"id": picture.id, "look": look}
            for picture, look in zip(pictures, looks, strict=True)
            if isinstance(look, int)
        ]
        if found:
            with sessions.begin() as session:
                session.execute(update(Picture), found)
        seen += len(found)
        done = min(at + AT_ONCE, len(todo))
        reporter.progress(done, len(todo), f"{done:,} of {len(todo):,} pictures")
    return PicturesSeen(pictures=seen, unreadable=len(unreadable), messages=unreadable[:MOST_MESSAGES])


def _look(folder: DataFolder, picture: Picture) -> int | None:
    """Make a picture's thumbnail, and tell its look; None where its file is gone. Raises `InputError`."""
    try:
        path = picture_path(folder, picture)
    except NotFound:
        return None
    kept = folder.thumbnail(picture.project_id, picture.content_hash, picture.white)
    return keep_small(path, picture.name, picture.width, picture.height, kept, picture.white)
