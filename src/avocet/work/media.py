"""Pictures and clips of a project: adding them, and where their files lie."""

import hashlib
import math
import shutil
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session, sessionmaker

from avocet.core.errors import InputError
from avocet.core.looks import picture_look
from avocet.files import copy_file, write_bytes
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.clips import clip_info, read_frames
from avocet.media.pictures import SUFFIXES as PICTURE_SUFFIXES
from avocet.media.pictures import encode_jpeg, picture_size, read_picture, thumbnail_jpeg
from avocet.store.folder import DataFolder
from avocet.store.tables import Clip, Picture
from avocet.work.problems import NotFound
from avocet.work.progress import Reporter, Stopped
from avocet.work.projects import get_project

THUMBNAIL = 320
"""Longer side of a thumbnail in pixels."""

NOT_SHOWN_BY_BROWSERS = frozenset({".tif", ".tiff"})

MOST_SAMPLED = 5000
"""Frames taken from one clip at once."""


@dataclass(frozen=True)
class Added:
    """What became of one file. ``fresh`` is false where the same content was there already."""

    picture: Picture
    fresh: bool


def content_hash(path: Path) -> str:
    """SHA-256 of a file's bytes, in hexadecimal."""
    with path.open("rb") as opened:
        return hashlib.file_digest(opened, "sha256").hexdigest()


def add_picture(
    session: Session,
    folder: DataFolder,
    project_id: int,
    path: Path,
    name: str,
    clip: Clip | None = None,
    frame_number: int | None = None,
    source: str = "",
    copied: bool = True,
    look_later: bool = False,
) -> Added:
    """Take a picture into the project, unless the same content is there.

    The whole picture is decoded once here, so that a damaged file is refused on arrival; its
    thumbnail is made of the same pixels, unless ``look_later`` leaves that to
    `avocet.work.thumbnails`. Where it is not copied, it is read where it lies.

    Raises
    ------
    InputError
        If it is not a picture that can be read.
    """
    get_project(session, project_id)
    suffix = Path(name).suffix.lower()
    if suffix not in PICTURE_SUFFIXES:
        raise InputError(
            f"{name} is neither a picture ({', '.join(sorted(PICTURE_SUFFIXES))}) "
            f"nor a clip ({', '.join(sorted(CLIP_SUFFIXES))})"
        )
    width, height = picture_size(path, name)
    digest = content_hash(path)
    there = session.scalar(
        select(Picture).where(Picture.project_id == project_id, Picture.content_hash == digest)
    )
    if there is not None:
        there.binned_at = None
        return Added(there, fresh=False)
    pixels = read_picture(path, name)
    if pixels.shape[:2] != (height, width):
        raise InputError(f"{name} is damaged: its size differs from what its header says")
    if copied:
        copy_file(path, folder.picture(project_id, digest, suffix))
    if not look_later:
        write_bytes(folder.thumbnail(project_id, digest), thumbnail_jpeg(pixels, THUMBNAIL))
    status = path.stat()
    picture = Picture(
        project_id=project_id,
        name=name,
        content_hash=digest,
        suffix=suffix,
        width=width,
        height=height,
        clip_id=clip.id if clip else None,
        frame_number=frame_number,
        source=source or (clip.name if clip else ""),
        path=None if copied else str(path.resolve()),
        file_size=status.st_size,
        file_time=status.st_mtime_ns,
        look=None if look_later else picture_look(pixels),
    )
    session.add(picture)
    session.flush()
    return Added(picture, fresh=True)


def add_clip(session: Session, folder: DataFolder, project_id: int, path: Path, name: str) -> Clip:
    """Copy a clip into the project, unless the same content is there. Raises `InputError`."""
    get_project(session, project_id)
    info = clip_info(path, name)
    digest = content_hash(path)
    there = session.scalar(select(Clip).where(Clip.project_id == project_id, Clip.content_hash == digest))
    if there is not None:
        return there
    suffix = Path(name).suffix.lower()
    if suffix not in CLIP_SUFFIXES:
        raise InputError(f"{name} is not a clip ({', '.join(sorted(CLIP_SUFFIXES))})")
    copy_file(path, folder.clip(project_id, digest, suffix))
    clip = Clip(
        project_id=project_id,
        name=name,
        content_hash=digest,
        suffix=suffix,
        width=info.width,
        height=info.height,
        rate=info.rate,
        seconds=info.seconds,
    )
    session.add(clip)
    session.flush()
    return clip


def sample_clip(
    sessions: sessionmaker[Session], folder: DataFolder, clip_id: int, per_second: float, reporter: Reporter
) -> dict[str, int]:
    """Take frames from a clip into the project as pictures.

    Every frame is stored as soon as it is decoded: a stop or a kill keeps what there is, and a
    second run adds only what is missing.
    """
    with sessions() as session:
        clip = get_clip(session, clip_id)
    path = folder.clip(clip.project_id, clip.content_hash, clip.suffix)
    expected = min(MOST_SAMPLED, max(1, math.ceil(clip.seconds * min(per_second, clip.rate))))
    added, known = 0, 0
    for frame in read_frames(path, per_second, clip.name):
        if reporter.should_stop():
            raise Stopped
        if added + known >= MOST_SAMPLED:
            raise InputError(
                f"{clip.name} gives more than {MOST_SAMPLED} frames at {per_second:g} a second; "
                f"the first {MOST_SAMPLED} are kept. Sample more thinly."
            )
        name = f"{Path(clip.name).stem}-{frame.number:06d}.jpg"
        incoming = folder.incoming / f"clip-{clip_id}-frame.jpg"
        write_bytes(incoming, encode_jpeg(frame.pixels))
        with sessions.begin() as session:
            result = add_picture(session, folder, clip.project_id, incoming, name, clip, frame.number)
        added, known = added + result.fresh, known + (not result.fresh)
        reporter.progress(added + known, max(expected, added + known), f"{added + known} frames taken")
        incoming.unlink()
    return {"added": added, "already_there": known}


def get_clip(session: Session, clip_id: int) -> Clip:
    """The clip, or `NotFound`."""
    clip = session.get(Clip, clip_id)
    if clip is None:
        raise NotFound(f"there is no clip {clip_id}")
    return clip


def list_clips(session: Session, project_id: int) -> list[Clip]:
    """The project's clips, oldest first."""
    return list(session.scalars(select(Clip).where(Clip.project_id == project_id).order_by(Clip.id)))


def get_picture(session: Session, picture_id: int) -> Picture:
    """The picture, or `NotFound`."""
    picture = session.get(Picture, picture_id)
    if picture is None:
        raise NotFound(f"there is no picture {picture_id}")
    return picture


def picture_path(folder: DataFolder, picture: Picture) -> Path:
    """Where a picture's file lies.

    Raises
    ------
    NotFound
        If it is gone.
    InputError
        If it is read where it lies, and was changed there.
    """
    if picture.path is None:
        path = folder.picture(picture.project_id, picture.content_hash, picture.suffix)
        if not path.is_file():
            raise NotFound(f"the file of {picture.name} is missing from the data folder ({path})")
        return path
    return unchanged(
        Path(picture.path), picture.content_hash, picture.name, picture.file_size, picture.file_time
    )


def unchanged(path: Path, digest: str, name: str, size: int | None = None, time: int | None = None) -> Path:
    """The path of a file that lies outside, once it is sure that it is still the one that was added."""
    if not path.is_file():
        raise NotFound(f"the file of {name} is not at {path} any more; its labels are kept")
    status = path.stat()
    if (status.st_size, status.st_mtime_ns) != (size, time) and content_hash(path) != digest:
        raise InputError(
            f"{name} was changed on disk after it was added ({path}); its labels are kept. "
            "Put the former file back, or add the changed one as a new picture."
        )
    return path


def viewable_path(folder: DataFolder, picture: Picture) -> Path:
    """The picture's file where browsers can show it, else a JPEG of it, made now if there is none yet."""
    original = picture_path(folder, picture)
    if picture.suffix not in NOT_SHOWN_BY_BROWSERS:
        return original
    path = folder.rendition(picture.project_id, picture.content_hash)
    if not path.is_file():
        write_bytes(path, encode_jpeg(read_picture(original, picture.name), quality=95))
    return path


def check_space(folder: DataFolder, needed: int) -> None:
    """Raise `InputError` where the disk has not so many bytes free."""
    folder.root.mkdir(parents=True, exist_ok=True)
    free = shutil.disk_usage(folder.root).free
    if free < needed:
        raise InputError(f"the disk of {folder.root} has {free:,} bytes free; {needed:,} are needed")
