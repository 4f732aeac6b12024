"""All boxes of a class in an order, page by page: from columns and from what the last look kept."""

import io
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.boxes import Array
from avocet.core.labels.looks import CROP_FEATURES, strangeness
from avocet.files import write_bytes
from avocet.store.audit_tables import CropLook
from avocet.store.folder import DataFolder
from avocet.store.rows import among, plain_rows
from avocet.store.tables import Box, Picture
from avocet.work.labels.boxes import Origin, of_origin
from avocet.work.labels.classes import get_class
from avocet.work.labels.columns import LabelColumns

SheetOrder = Literal["size", "shape", "brightness", "date", "strange"]
BY_CONTENT: tuple[SheetOrder, SheetOrder] = ("brightness", "strange")

DAYS_TO_1970 = 2440587.5
"""The first of January 1970 as a Julian day, which SQLite counts in."""


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
    folder: DataFolder,
    project_id: int,
    columns: LabelColumns,
    class_id: int,
    order: SheetOrder,
    descending: bool = False,
    start: int = 0,
    limit: int = 200,
    origin: Origin | None = None,
) -> Sheet:
    """A page of all boxes of a class in the wanted order; only those of an origin, where one is named."""
    get_class(session, project_id, class_id)
    boxes = np.flatnonzero(columns.class_ids == class_id)
    if origin is not None:
        from_there = session.scalars(select(Box.id).where(Box.class_id == class_id, of_origin(origin))).all()
        boxes = boxes[np.isin(columns.box_ids[boxes], from_there)]
    unseen = np.zeros(len(boxes), dtype=bool)
    sides = columns.corners[boxes, 2:] - columns.corners[boxes, :2]
    if order == "size":
        values = sides.prod(axis=1)
    elif order == "shape":
        values = np.round(sides[:, 0] / np.maximum(sides[:, 1], 1e-9), 3)
    elif order == "date":
        values = _labelled_at(session, project_id, columns)[columns.owner[boxes]]
    else:
        values, unseen = _looked_up(folder, project_id, columns.box_ids[boxes], order)
    rank = np.lexsort((np.arange(len(boxes)), -values if descending else values, unseen))
    shown = rank[start : start + limit]
    pictures = columns.picture_ids[columns.owner[boxes[shown]]].tolist()
    query = select(Picture.id, Picture.name).where(among(Picture.id, pictures))
    names = {number: name for number, name in session.execute(query)}
    crops = [
        Crop(
            int(columns.box_ids[boxes[place]]), picture, names.get(picture, ""), class_id,
            (x1, y1, x2, y2), float(values[place]),
        )
        for place, picture in zip(shown.tolist(), pictures, strict=True)
        for x1, y1, x2, y2 in [columns.corners[boxes[place]].tolist()]
    ]  # fmt: skip
    return Sheet(crops, len(boxes), int(unseen.sum()))


def keep_looks(
    session: Session, folder: DataFolder, project_id: int, columns: LabelColumns, keys: list[str]
) -> None:
    """Keep how bright and how strange every box is that was looked at, so that a page only has to order them."""
    bright, strange = np.full(len(keys), np.nan), np.full(len(keys), np.nan)
    for class_id in np.unique(columns.class_ids).tolist():
        boxes = np.flatnonzero(columns.class_ids == class_id)
        wanted = {keys[index] for index in boxes.tolist()}
        query = select(CropLook.crop, CropLook.brightness, CropLook.features)
        rows = session.execute(
            query.where(CropLook.project_id == project_id, among(CropLook.crop, sorted(wanted)))
        )
        looks = {crop: (brightness, features) for crop, brightness, features in rows}
        seen = [index for index in boxes.tolist() if keys[index] in looks]
        bright[seen] = [looks[keys[index]][0] for index in seen]
        features = np.frombuffer(b"".join(looks[keys[index]][1] for index in seen), np.float32)
        strange[seen] = np.round(strangeness(features.reshape(-1, CROP_FEATURES)), 4)
    order = np.argsort(columns.box_ids)
    content = io.BytesIO()
    np.savez(content, box_ids=columns.box_ids[order], brightness=bright[order], strange=strange[order])
    write_bytes(folder.looks(project_id), content.getvalue())


def _labelled_at(session: Session, project_id: int, columns: LabelColumns) -> Array:
    """When each picture was labelled, in seconds since 1970; 0 where it is not."""
    seconds = (func.julianday(Picture.labelled_at) - DAYS_TO_1970) * 86_400
    query = select(Picture.id, seconds).where(
        Picture.project_id == project_id, Picture.labelled_at.is_not(None)
    )
    known = {number: at for some in plain_rows(session, query) for number, at in some}
    return np.array([known.get(number, 0.0) for number in columns.picture_ids.tolist()])


def _looked_up(
    folder: DataFolder, project_id: int, box_ids: NDArray[np.int64], order: SheetOrder
) -> tuple[Array, NDArray[np.bool_]]:
    """What the last look found of these boxes, and which it has not seen."""
    path = folder.looks(project_id)
    if not path.is_file():
        return np.zeros(len(box_ids)), np.ones(len(box_ids), dtype=bool)
    with np.load(path, allow_pickle=False) as kept:
        known, values = kept["box_ids"], kept[order]
    place = np.minimum(np.searchsorted(known, box_ids), max(len(known) - 1, 0))
    found = values[place] if len(known) else np.zeros(len(box_ids))
    unseen = np.isnan(found) | (known[place] != box_ids if len(known) else True)
    return np.where(unseen, 0.0, found), unseen
