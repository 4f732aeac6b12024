"""Snapshots: immutable, content-hashed copies of labels and splits."""

import hashlib
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from avocet.core.boxes import as_boxes
from avocet.core.errors import InputError
from avocet.detector.labelled import LabelledPicture
from avocet.files import write_bytes
from avocet.formats.record import IGNORE
from avocet.media.pictures import read_picture
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, Picture, Snapshot
from avocet.work.classes import list_classes
from avocet.work.listing import Filter, conditions
from avocet.work.media import unchanged
from avocet.work.problems import NotFound
from avocet.work.projects import LABELLED


class FrozenPicture(BaseModel):
    """A picture of a snapshot; ``boxes`` are class index, corners in original pixels, crowd.

    Attributes and track numbers are kept by the box's place in the list, where there are any;
    ``path`` says where a picture lies that was not copied.
    """

    id: int
    name: str
    content_hash: str
    suffix: str
    width: int
    height: int
    part: Part | None
    boxes: list[tuple[int, float, float, float, float, bool]]
    attributes: dict[int, dict[str, Any]] = {}
    tracks: dict[int, int] = {}
    path: str | None = None


class Frozen(BaseModel):
    """What a snapshot holds."""

    classes: list[str]
    pictures: list[FrozenPicture]


def freeze(
    session: Session,
    folder: DataFolder,
    project_id: int,
    name: str = "",
    note: str = "",
    wanted: Filter | None = None,
    class_map: Mapping[int, int | None] | None = None,
    new_names: Mapping[int, str] | None = None,
) -> Snapshot:
    """Copy the labels and splits as they are now; the same labels give the same snapshot.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    project_id : int
    name, note : str
        For people; a snapshot that is there already keeps its own unless it has none.
    wanted : Filter, optional
        Which labelled pictures to take; by default all.
    class_map : mapping of int to int or None, optional
        For ids of classes: the class that their boxes get in the snapshot, or None to leave the
        boxes out. Retired classes are left out by themselves.
    new_names : mapping of int to str, optional
        Other names of classes in the snapshot.

    Raises
    ------
    InputError
        If no picture is labelled, or no class is left.
    """
    if not list_classes(session, project_id):
        raise InputError("the project has no class yet; add one in Collect")
    frozen = labels_now(session, project_id, wanted, class_map, new_names)
    if not frozen.classes:
        raise InputError("every class is left out; a snapshot needs at least one")
    if not frozen.pictures:
        raise InputError("no picture is labelled yet; draw some boxes in Collect first")
    dumped = frozen.model_dump(mode="json")
    for picture in dumped["pictures"]:
        for extra in ("attributes", "tracks", "path"):
            if not picture[extra]:
                del picture[extra]
    content = json.dumps(dumped, ensure_ascii=False, separators=(",", ":")).encode()
    digest = hashlib.sha256(content).hexdigest()
    there = session.scalar(
        select(Snapshot).where(Snapshot.project_id == project_id, Snapshot.content_hash == digest)
    )
    if there is not None:
        there.name, there.note = there.name or name.strip(), there.note or note.strip()
        return there
    write_bytes(folder.snapshot(project_id, digest), content)
    snapshot = Snapshot(
        project_id=project_id,
        content_hash=digest,
        pictures=len(frozen.pictures),
        boxes=sum(len(picture.boxes) for picture in frozen.pictures),
        name=name.strip(),
        note=note.strip(),
    )
    session.add(snapshot)
    session.flush()
    return snapshot


def labels_now(
    session: Session,
    project_id: int,
    wanted: Filter | None = None,
    class_map: Mapping[int, int | None] | None = None,
    new_names: Mapping[int, str] | None = None,
) -> Frozen:
    """The labels as they are now, as a snapshot would hold them; nothing is written."""
    mapping = class_map or {}
    active = list_classes(session, project_id)
    target = {each.id: mapping.get(each.id, each.id) for each in active}
    classes = [each for each in active if each.id in target.values()]
    index_of = {each.id: index for index, each in enumerate(classes)}
    label_of = {
        class_id: index_of[goal] for class_id, goal in target.items() if goal is not None and goal in index_of
    }
    pictures = session.scalars(
        select(Picture)
        .options(selectinload(Picture.boxes))
        .where(*conditions(project_id, wanted or Filter()), Picture.state.in_(LABELLED))
        .order_by(Picture.content_hash)
    )
    names = [((new_names or {}).get(each.id) or each.name).strip() for each in classes]
    if len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise InputError(f"two classes of the snapshot would be called {twice!r}; merge them instead")
    return Frozen(classes=names, pictures=[_frozen(each, label_of) for each in pictures])


def get_snapshot(session: Session, snapshot_id: int) -> Snapshot:
    """The snapshot, or `NotFound`."""
    found = session.get(Snapshot, snapshot_id)
    if found is None:
        raise NotFound(f"there is no snapshot {snapshot_id}")
    return found


def list_snapshots(session: Session, project_id: int) -> list[Snapshot]:
    """The project's snapshots, newest first."""
    query = select(Snapshot).where(Snapshot.project_id == project_id).order_by(Snapshot.id.desc())
    return list(session.scalars(query))


def describe_snapshot(session: Session, snapshot_id: int, name: str, note: str) -> Snapshot:
    """Give a snapshot another name and note; what it holds never changes."""
    snapshot = get_snapshot(session, snapshot_id)
    snapshot.name, snapshot.note = name.strip()[:200], note.strip()[:5000]
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
    folder: DataFolder, project_id: int, frozen: Frozen, part: Part | None
) -> list[LabelledPicture]:
    """The pictures of one part, ready to train or measure on. Boxes marked to be ignored are."""
    return [
        LabelledPicture(
            name=picture.name,
            width=picture.width,
            height=picture.height,
            read=_Reader(folder, project_id, picture),
            boxes=as_boxes([box[1:5] for box in picture.boxes]),
            classes=np.array([box[0] for box in picture.boxes], dtype=np.int64),
            ignored=ignored_boxes(picture) | np.array([box[5] for box in picture.boxes], dtype=bool),
        )
        for picture in frozen.pictures
        if picture.part == part
    ]


def ignored_boxes(picture: FrozenPicture) -> NDArray[np.bool_]:
    """Which boxes a person marked to be ignored."""
    marked = [bool(picture.attributes.get(number, {}).get(IGNORE)) for number in range(len(picture.boxes))]
    return np.array(marked, dtype=bool)


def frozen_file(folder: DataFolder, project_id: int, picture: FrozenPicture) -> Path:
    """Where the file of a snapshot's picture lies. Raises `NotFound` or `InputError` if it is not the same."""
    if picture.path is not None:
        return unchanged(Path(picture.path), picture.content_hash, picture.name)
    path = folder.picture(project_id, picture.content_hash, picture.suffix)
    if not path.is_file():
        raise NotFound(f"the file of {picture.name} is missing from the data folder ({path})")
    return path


def _frozen(picture: Picture, label_of: Mapping[int, int]) -> FrozenPicture:
    boxes = [box for box in picture.boxes if box.class_id in label_of]
    return FrozenPicture(
        id=picture.id,
        name=picture.name,
        content_hash=picture.content_hash,
        suffix=picture.suffix,
        width=picture.width,
        height=picture.height,
        part=picture.part,
        boxes=[(label_of[box.class_id], *box.corners, box.crowd) for box in boxes],  # type: ignore[misc]
        attributes={number: box.attributes for number, box in enumerate(boxes) if box.attributes},
        tracks={number: box.track for number, box in enumerate(boxes) if box.track is not None},
        path=picture.path,
    )


class _Reader:
    """Reads one picture when called."""

    def __init__(self, folder: DataFolder, project_id: int, picture: FrozenPicture) -> None:
        self._folder, self._project_id, self._picture = folder, project_id, picture

    def __call__(self) -> Any:
        return read_picture(frozen_file(self._folder, self._project_id, self._picture), self._picture.name)
