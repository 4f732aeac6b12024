"""Snapshots: immutable, content-hashed copies of labels and splits."""

import hashlib
import json
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from avocet.core.boxes import as_boxes
from avocet.core.errors import InputError
from avocet.detector.labelled import LabelledPicture
from avocet.files import write_bytes
from avocet.media.pictures import read_picture
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, Picture, Snapshot
from avocet.work.classes import list_classes
from avocet.work.problems import NotFound
from avocet.work.projects import LABELLED


class FrozenPicture(BaseModel):
    """A picture of a snapshot; ``boxes`` are class index, corners in original pixels, crowd."""

    id: int
    name: str
    content_hash: str
    suffix: str
    width: int
    height: int
    part: Part | None
    boxes: list[tuple[int, float, float, float, float, bool]]


class Frozen(BaseModel):
    """What a snapshot holds."""

    classes: list[str]
    pictures: list[FrozenPicture]


def freeze(session: Session, folder: DataFolder, project_id: int) -> Snapshot:
    """Copy the labels and splits as they are now; the same labels give the same snapshot.

    Raises
    ------
    InputError
        If no picture is labelled, or the project has no class.
    """
    classes = list_classes(session, project_id)
    if not classes:
        raise InputError("the project has no class yet; add one in Collect")
    index_of = {each.id: index for index, each in enumerate(classes)}
    pictures = session.scalars(
        select(Picture)
        .options(selectinload(Picture.boxes))
        .where(Picture.project_id == project_id, Picture.binned_at.is_(None), Picture.state.in_(LABELLED))
        .order_by(Picture.content_hash)
    )
    frozen = Frozen(
        classes=[each.name for each in classes],
        pictures=[
            FrozenPicture(
                id=picture.id,
                name=picture.name,
                content_hash=picture.content_hash,
                suffix=picture.suffix,
                width=picture.width,
                height=picture.height,
                part=picture.part,
                boxes=[(index_of[box.class_id], *box.corners, box.crowd) for box in picture.boxes],  # type: ignore[misc]
            )
            for picture in pictures
        ],
    )
    if not frozen.pictures:
        raise InputError("no picture is labelled yet; draw some boxes in Collect first")
    content = json.dumps(frozen.model_dump(mode="json"), ensure_ascii=False, separators=(",", ":")).encode()
    digest = hashlib.sha256(content).hexdigest()
    there = session.scalar(
        select(Snapshot).where(Snapshot.project_id == project_id, Snapshot.content_hash == digest)
    )
    if there is not None:
        return there
    write_bytes(folder.snapshot(project_id, digest), content)
    snapshot = Snapshot(
        project_id=project_id,
        content_hash=digest,
        pictures=len(frozen.pictures),
        boxes=sum(len(picture.boxes) for picture in frozen.pictures),
    )
    session.add(snapshot)
    session.flush()
    return snapshot


def read_snapshot(folder: DataFolder, snapshot: Snapshot) -> Frozen:
    """What a snapshot holds. Raises `NotFound` if its file is gone or was changed."""
    path = folder.snapshot(snapshot.project_id, snapshot.content_hash)
    if not path.is_file():
        raise NotFound(f"the file of snapshot {snapshot.content_hash[:12]} is missing ({path})")
    content = path.read_bytes()
    if hashlib.sha256(content).hexdigest() != snapshot.content_hash:
        raise NotFound(f"the file of snapshot {snapshot.content_hash[:12]} was changed ({path})")
    return Frozen.model_validate_json(content)


def labelled_pictures(
    folder: DataFolder, project_id: int, frozen: Frozen, part: Part
) -> list[LabelledPicture]:
    """The pictures of one part, ready to train or measure on."""
    return [
        LabelledPicture(
            name=picture.name,
            width=picture.width,
            height=picture.height,
            read=_Reader(folder.picture(project_id, picture.content_hash, picture.suffix), picture.name),
            boxes=as_boxes([box[1:5] for box in picture.boxes]),
            classes=np.array([box[0] for box in picture.boxes], dtype=np.int64),
            ignored=np.array([box[5] for box in picture.boxes], dtype=bool),
        )
        for picture in frozen.pictures
        if picture.part == part
    ]


class _Reader:
    """Reads one picture when called."""

    def __init__(self, path: Path, name: str) -> None:
        self._path, self._name = path, name

    def __call__(self) -> Any:
        return read_picture(self._path, self._name)
