"""Boxes as small pictures, and looks at what is in them."""

import hashlib
from collections.abc import Mapping, Sequence

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.labels.looks import crop_brightness, crop_features
from avocet.media.cropping import crop_picture, square_around
from avocet.media.pictures import encode_jpeg
from avocet.store.audit_tables import CropLook
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder, look_name
from avocet.store.rows import plain_rows
from avocet.store.tables import Picture
from avocet.work.audit.sheets import keep_looks
from avocet.work.job_givens import ForProject
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import BoxesSeen
from avocet.work.labels.columns import LabelColumns, read_columns
from avocet.work.pictures.files import StoredPicture, get_picture, picture_path, picture_pixels
from avocet.work.problems import NotFound
from avocet.work.progress import Reporter, Stopped

CROP = 160
"""Sides of a crop's picture in pixels."""


def do_looking(task: Task[ForProject]) -> BoxesSeen:
    """Look at the content of boxes in the background."""
    return look_at_crops(task.sessions, task.folder, task.given.project_id, task.reporter)


def look_at_crops(sessions: Sessions, folder: DataFolder, project_id: int, reporter: Reporter) -> BoxesSeen:
    """Look at the content of every box that nobody has looked at yet, and keep how bright and strange all are.

    A picture that cannot be read is passed over: its boxes stay unseen.
    """
    with reading(sessions)() as session:
        columns = read_columns(session, project_id)
        keys = crop_keys(session, project_id, columns)
        known = set(session.scalars(select(CropLook.crop).where(CropLook.project_id == project_id)))
    new = np.flatnonzero([key not in known for key in keys])
    seen = 0
    todo = np.split(new, np.flatnonzero(np.diff(columns.owner[new])) + 1) if len(new) else []
    for number, boxes in enumerate(todo, start=1):
        if reporter.should_stop():
            raise Stopped
        picture_id = int(columns.picture_ids[columns.owner[boxes[0]]])
        places = {keys[index]: columns.corners[index] for index in boxes.tolist()}
        seen += _look_into(sessions, folder, project_id, picture_id, places)
        reporter.progress(number, len(todo), f"{number:,} of {len(todo):,} pictures")
    with reading(sessions)() as session:
        keep_looks(session, folder, project_id, columns, keys)
    return BoxesSeen(looked_at=seen)


def crop_keys(session: Session, project_id: int, columns: LabelColumns) -> list[str]:
    """Under which key each box's look is kept: the same picture and place have the same."""
    query = select(Picture.id, Picture.content_hash, Picture.white).where(Picture.project_id == project_id)
    names = {
        number: look_name(digest, white)
        for some in plain_rows(session, query)
        for number, digest, white in some
    }
    of_box = (names[number] for number in columns.picture_ids[columns.owner].tolist())
    return [_crop_key(name, corners) for name, corners in zip(of_box, columns.corners.tolist(), strict=True)]


def _look_into(
    sessions: Sessions, folder: DataFolder, project_id: int, picture_id: int, places: Mapping[str, np.ndarray]
) -> int:
    """Look at some boxes of one picture; returns how many."""
    try:
        with reading(sessions)() as session:
            picture = get_picture(session, picture_id)
        pixels = picture_pixels(folder, picture)
    except (InputError, NotFound):
        return 0
    looks = [
        CropLook(
            project_id=project_id,
            crop=key,
            brightness=crop_brightness(pixels, place),
            features=crop_features(pixels, place).tobytes(),
        )
        for key, place in places.items()
    ]
    with sessions.begin() as session:
        for look in looks:
            session.merge(look)
    return len(looks)


def crop_jpeg(folder: DataFolder, picture: Picture | StoredPicture, corners: Sequence[float]) -> bytes:
    """A square picture of a box with a little surrounding; what lies beyond the edge is black."""
    region = square_around(corners)
    pixels = crop_picture(picture_path(folder, picture), region, CROP, picture.name, picture.white)
    return encode_jpeg(pixels, quality=85)


def _crop_key(name: str, corners: Sequence[float]) -> str:
    place = ",".join(f"{value:.1f}" for value in corners)
    return hashlib.sha256(f"{name} {place}".encode()).hexdigest()[:32]
