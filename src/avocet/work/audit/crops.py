"""All boxes of a class as crops, ordered."""

import hashlib
import io
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from PIL import Image
from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.labels.looks import CROP_FEATURES, crop_brightness, crop_features, strangeness
from avocet.media.pictures import read_picture
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Box, CropLook, Picture
from avocet.work.job_kinds import ForProject, Task
from avocet.work.job_outcomes import BoxesSeen
from avocet.work.labels.classes import get_class
from avocet.work.pictures.files import StoredPicture, get_picture, picture_path
from avocet.work.progress import Reporter, Stopped

SheetOrder = Literal["size", "shape", "brightness", "date", "strange"]
CROP = 160
"""Sides of a crop's picture in pixels."""

AROUND = 0.18
"""Share of a box's longer side that is shown around it."""


@dataclass(frozen=True)
class Crop:
    """A box on a sheet, and the figure that it is ordered by."""

    id: int
    picture_id: int
    picture_name: str
    class_id: int
    corners: tuple[float, float, float, float]
    value: float


@dataclass(frozen=True)
class Sheet:
    """A page of crops.

    Attributes
    ----------
    crops : list of Crop
    total : int
        Boxes of the class.
    unseen : int
        Boxes that nobody has looked at yet, where the order needs it: they come last.
    """

    crops: list[Crop]
    total: int
    unseen: int


def class_sheet(
    session: Session,
    project_id: int,
    class_id: int,
    order: SheetOrder,
    descending: bool = False,
    start: int = 0,
    limit: int = 200,
) -> Sheet:
    """A page of all boxes of a class in the wanted order."""
    get_class(session, project_id, class_id)
    rows = session.execute(
        select(
            Box.id, Picture.id, Picture.name, Box.x1, Box.y1, Box.x2, Box.y2, Picture.content_hash,
            Picture.labelled_at,
        )
        .join(Picture)
        .where(Picture.project_id == project_id, Picture.binned_at.is_(None), Box.class_id == class_id)
        .order_by(Picture.id, Box.position)
    ).all()  # fmt: skip
    corners = np.array([row[3:7] for row in rows], dtype=np.float64).reshape(-1, 4)
    sides = corners[:, 2:] - corners[:, :2]
    unseen = np.zeros(len(rows), dtype=bool)
    if order == "size":
        values = sides.prod(axis=1)
    elif order == "shape":
        values = np.round(sides[:, 0] / np.maximum(sides[:, 1], 1e-9), 3)
    elif order == "date":
        values = np.array([row[8].timestamp() if row[8] else 0.0 for row in rows])
    else:
        values, unseen = _looked_up(session, project_id, [_crop_key(row[7], row[3:7]) for row in rows], order)
    rank = np.lexsort((np.arange(len(rows)), -values if descending else values, unseen))
    crops = [
        Crop(rows[i][0], rows[i][1], rows[i][2], class_id, tuple(rows[i][3:7]), float(values[i]))
        for i in rank[start : start + limit]
    ]
    return Sheet(crops, len(rows), int(unseen.sum()))


def do_looking(task: Task[ForProject]) -> BoxesSeen:
    """Look at the content of boxes in the background."""
    return look_at_crops(task.sessions, task.folder, task.given.project_id, task.reporter)


def look_at_crops(sessions: Sessions, folder: DataFolder, project_id: int, reporter: Reporter) -> BoxesSeen:
    """Look at the content of every box that nobody has looked at yet, for ordering by it."""
    with reading(sessions)() as session:
        known = set(session.scalars(select(CropLook.crop).where(CropLook.project_id == project_id)))
        todo: dict[int, list[tuple[str, tuple[float, ...]]]] = defaultdict(list)
        rows = session.execute(
            select(Picture.id, Picture.content_hash, Box.x1, Box.y1, Box.x2, Box.y2)
            .join(Box)
            .where(Picture.project_id == project_id, Picture.binned_at.is_(None))
            .order_by(Picture.id)
        )
        for picture_id, digest, *corners in rows:
            key = _crop_key(digest, corners)
            if key not in known:
                known.add(key)
                todo[picture_id].append((key, tuple(corners)))
    seen = 0
    for number, (picture_id, crops) in enumerate(todo.items(), start=1):
        if reporter.should_stop():
            raise Stopped
        with reading(sessions)() as session:
            picture = get_picture(session, picture_id)
        pixels = read_picture(picture_path(folder, picture), picture.name)
        looks = [
            CropLook(
                project_id=project_id,
                crop=key,
                brightness=crop_brightness(pixels, place),
                features=crop_features(pixels, place).tobytes(),
            )
            for key, place in crops
        ]
        with sessions.begin() as session:
            for look in looks:
                session.merge(look)
        seen += len(looks)
        reporter.progress(number, len(todo), f"{number} of {len(todo)} pictures")
    return BoxesSeen(looked_at=seen)


def crop_jpeg(folder: DataFolder, picture: Picture | StoredPicture, corners: Sequence[float]) -> bytes:
    """A square picture of a box with a little surrounding; what lies beyond the edge is black."""
    x1, y1, x2, y2 = corners
    if not (x2 > x1 and y2 > y1) or not np.isfinite(corners).all():
        raise InputError(f"a crop needs corners with an area, not {list(corners)}")
    side = max(x2 - x1, y2 - y1) * (1 + 2 * AROUND)
    left, top = (x1 + x2 - side) / 2, (y1 + y2 - side) / 2
    whole = Image.fromarray(read_picture(picture_path(folder, picture), picture.name))
    region = (
        round(left),
        round(top),
        max(round(left + side), round(left) + 1),
        max(round(top + side), round(top) + 1),
    )
    small = whole.crop(region).resize(
        (CROP, CROP), Image.Resampling.BOX if side > CROP else Image.Resampling.BICUBIC
    )
    buffer = io.BytesIO()
    small.save(buffer, "JPEG", quality=85)
    return buffer.getvalue()


def _looked_up(
    session: Session, project_id: int, keys: Sequence[str], order: SheetOrder
) -> tuple[np.ndarray, np.ndarray]:
    """Brightness or strangeness of crops, and which of them nobody has looked at."""
    wanted = set(keys)
    query = select(CropLook).where(CropLook.project_id == project_id)
    looks = {look.crop: look for look in session.scalars(query) if look.crop in wanted}
    unseen = np.array([key not in looks for key in keys], dtype=bool)
    values = np.zeros(len(keys))
    seen = np.flatnonzero(~unseen).tolist()
    if order == "brightness":
        values[seen] = [looks[keys[index]].brightness for index in seen]
    elif len(seen):
        rows = [np.frombuffer(looks[keys[index]].features, np.float32) for index in seen]
        values[seen] = np.round(strangeness(np.array(rows).reshape(-1, CROP_FEATURES)), 4)
    return values, unseen


def _crop_key(digest: str, corners: Sequence[float]) -> str:
    place = ",".join(f"{value:.1f}" for value in corners)
    return hashlib.sha256(f"{digest} {place}".encode()).hexdigest()[:32]
