"""Pictures taken into a project: read, checked and copied first, recorded last."""

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.labels.looks import picture_look
from avocet.files import copy_file, move_file, write_bytes
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.pictures import SUFFIXES as PICTURE_SUFFIXES
from avocet.media.pictures import has_more_pages, picture_size, read_picture, thumbnail_jpeg
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Clip, Picture
from avocet.work.pictures.files import content_hash
from avocet.work.project.projects import get_project

THUMBNAIL = 320
"""Longer side of a thumbnail in pixels."""

Keep = Literal["copy", "move", "in place"]
"""What becomes of a file that is added: it stays and is copied, it is ours to move, or it is read where it lies."""


@dataclass(frozen=True)
class Arrival:
    """A file on its way into a project.

    Attributes
    ----------
    path : Path
    name : str
        What its sender calls it.
    digest : str
        SHA-256 of its bytes, where somebody has taken it already.
    source : str
        The clip, archive or folder that it comes from.
    clip : Clip, optional
    frame_number : int, optional
        Its place in the clip.
    keep : {'copy', 'move', 'in place'}
    look_later : bool
        Leave thumbnail and look to `avocet.work.pictures.thumbnails`.
    """

    path: Path
    name: str
    digest: str = ""
    source: str = ""
    clip: Clip | None = None
    frame_number: int | None = None
    keep: Keep = "copy"
    look_later: bool = False


@dataclass(frozen=True)
class Added:
    """What became of one file. ``fresh`` is false where the same content was there already."""

    picture: Picture
    fresh: bool
    remark: str = ""
    """What whoever sent it should know."""


def take_picture(sessions: Sessions, folder: DataFolder, project_id: int, arrival: Arrival) -> Added:
    """Take a picture into the project, unless the same content is there.

    Whoever else wants to write waits only for the record: the picture is decoded, hashed and
    copied before.

    Raises
    ------
    InputError
        If it is not a picture that can be read.
    """
    with reading(sessions)() as session:
        get_project(session, project_id)
        _check_kind(arrival.name)
        digest = arrival.digest or content_hash(arrival.path)
        there = known_picture(session, project_id, digest)
    remark = ""
    if there is None and has_more_pages(arrival.path):
        remark = f"{arrival.name} has several pages or frames; only the first is taken"
    fresh = None if there is not None else prepare_picture(folder, project_id, arrival, digest)
    with sessions.begin() as session:
        added = _record(session, project_id, digest, fresh)
    return replace(
        added, remark=remark if added.fresh else f"The same picture is there as {added.picture.name}"
    )


def add_picture(
    session: Session,
    folder: DataFolder,
    project_id: int,
    path: Path,
    name: str,
    keep: Keep = "copy",
) -> Added:
    """As `take_picture`, as part of a transaction that is open already: for few pictures only."""
    get_project(session, project_id)
    _check_kind(name)
    digest = content_hash(path)
    there = known_picture(session, project_id, digest)
    arrival = Arrival(path, name, keep=keep)
    fresh = None if there is not None else prepare_picture(folder, project_id, arrival, digest)
    return _record(session, project_id, digest, fresh)


def known_picture(session: Session, project_id: int, digest: str) -> Picture | None:
    """The project's picture of that content, also one in the bin."""
    return session.scalar(
        select(Picture).where(Picture.project_id == project_id, Picture.content_hash == digest)
    )


def prepare_picture(folder: DataFolder, project_id: int, arrival: Arrival, digest: str) -> Picture:
    """A picture that is decoded and lies where it belongs, and is not yet recorded.

    The whole picture is decoded once here, so that a damaged file is refused on arrival; its
    thumbnail is made of the same pixels. Raises `InputError` as `take_picture` does.
    """
    path, name = arrival.path, arrival.name
    suffix = Path(name).suffix.lower()
    width, height = picture_size(path, name)
    pixels = read_picture(path, name)
    if pixels.shape[:2] != (height, width):
        raise InputError(f"{name} is damaged: its size differs from what its header says")
    status = path.stat()
    if not arrival.look_later:
        write_bytes(folder.thumbnail(project_id, digest), thumbnail_jpeg(pixels, THUMBNAIL))
    if arrival.keep != "in place":
        put = copy_file if arrival.keep == "copy" else move_file
        put(path, folder.picture(project_id, digest, suffix))
    return Picture(
        project_id=project_id,
        name=name,
        content_hash=digest,
        suffix=suffix,
        width=width,
        height=height,
        clip_id=arrival.clip.id if arrival.clip else None,
        frame_number=arrival.frame_number,
        source=arrival.source or (arrival.clip.name if arrival.clip else ""),
        path=str(path.resolve()) if arrival.keep == "in place" else None,
        file_size=status.st_size,
        file_time=status.st_mtime_ns,
        look=None if arrival.look_later else picture_look(pixels),
    )


def _record(session: Session, project_id: int, digest: str, fresh: Picture | None) -> Added:
    # Asked again: somebody else may have added the same meanwhile.
    there = known_picture(session, project_id, digest)
    if there is not None:
        if there.binned_at is not None:
            there.binned_at = None
        return Added(there, fresh=False)
    assert fresh is not None
    session.add(fresh)
    session.flush()
    return Added(fresh, fresh=True)


def _check_kind(name: str) -> None:
    if Path(name).suffix.lower() not in PICTURE_SUFFIXES:
        raise InputError(
            f"{name} is neither a picture ({', '.join(sorted(PICTURE_SUFFIXES))}) "
            f"nor a clip ({', '.join(sorted(CLIP_SUFFIXES))})"
        )
