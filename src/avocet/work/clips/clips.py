"""Clips of a project."""

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.files import copy_file, move_file
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.clips import clip_info
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.store.tables import Clip, LabelledAs, now
from avocet.work.pictures.files import content_hash
from avocet.work.problems import by_number
from avocet.work.project.projects import get_project


@dataclass(frozen=True)
class ClipChoice:
    """How a clip is labelled, and how it is thinned out for learning.

    Attributes
    ----------
    labelled_as : LabelledAs
    first : int
    last : int, optional
        Frames from which and up to which the clip counts; by default to its end.
    per_second : float, optional
        So many frames a second.
    differing : float, optional
        Those in which such a part of the picture has changed since the last one. With neither, every frame.
    """

    labelled_as: LabelledAs
    first: int = 0
    last: int | None = None
    per_second: float | None = None
    differing: float | None = None


def take_clip(
    sessions: Sessions,
    folder: DataFolder,
    project_id: int,
    path: Path,
    name: str,
    digest: str = "",
    keep: Literal["copy", "move"] = "copy",
) -> Clip:
    """Take a clip into the project, unless the same content is there.

    Whoever else wants to write waits only for the record.

    Raises
    ------
    InputError
        If it is not a clip that can be read.
    """
    made, digest = _prepared(folder, project_id, path, name, digest, keep)
    with sessions.begin() as session:
        return _record(session, project_id, digest, made)


def add_clip(session: Session, folder: DataFolder, project_id: int, path: Path, name: str) -> Clip:
    """As `take_clip`, as part of a transaction that is open already."""
    made, digest = _prepared(folder, project_id, path, name)
    return _record(session, project_id, digest, made)


def _prepared(
    folder: DataFolder,
    project_id: int,
    path: Path,
    name: str,
    digest: str = "",
    keep: Literal["copy", "move"] = "copy",
) -> tuple[Clip, str]:
    info = clip_info(path, name)
    digest = digest or content_hash(path)
    suffix = Path(name).suffix.lower()
    if suffix not in CLIP_SUFFIXES:
        raise InputError(f"{name} is not a clip ({', '.join(sorted(CLIP_SUFFIXES))})")
    target = folder.clip(project_id, digest, suffix)
    if not target.is_file():
        put = copy_file if keep == "copy" else move_file
        put(path, target)
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
    return clip, digest


def _record(session: Session, project_id: int, digest: str, made: Clip) -> Clip:
    get_project(session, project_id)
    there = session.scalar(select(Clip).where(Clip.project_id == project_id, Clip.content_hash == digest))
    if there is not None:
        # Who adds it again wants it.
        there.binned_at = None
        return there
    session.add(made)
    session.flush()
    return made


def get_clip(session: Session, clip_id: int) -> Clip:
    """The clip, or `NotFound`."""
    return by_number(session, Clip, clip_id, "clip")


def list_clips(session: Session, project_id: int, binned: bool = False) -> list[Clip]:
    """The project's clips, or those in its bin, oldest first."""
    there = Clip.binned_at.is_not(None) if binned else Clip.binned_at.is_(None)
    return list(session.scalars(select(Clip).where(Clip.project_id == project_id, there).order_by(Clip.id)))


def bin_clip(session: Session, clip_id: int, binned: bool) -> Clip:
    """Move a clip to the bin, or restore it. Its objects stay with it, and its pictures stay in the project."""
    clip = get_clip(session, clip_id)
    clip.binned_at = now() if binned else None
    return clip


def choose(session: Session, clip_id: int, frames: int, choice: ClipChoice) -> Clip:
    """Keep how a clip is labelled and which of its frames are learnt from; nothing is taken or lost by it.

    Raises
    ------
    InputError
        If the clip, which has so many ``frames``, does not have the stretch.
    """
    clip = get_clip(session, clip_id)
    last = frames - 1 if choice.last is None else choice.last
    if not 0 <= choice.first <= last < frames:
        raise InputError(f"{clip.name} has frames 0 to {frames - 1}, not {choice.first} to {last}")
    clip.labelled_as, clip.first, clip.last = choice.labelled_as, choice.first, choice.last
    clip.per_second, clip.differing = choice.per_second, choice.differing
    return clip


def stretch(clip: Clip, frames: int) -> tuple[int, int]:
    """First and last frame that count, of a clip that has so many."""
    last = frames - 1 if clip.last is None else min(clip.last, frames - 1)
    return min(clip.first, last), last


def clip_path(folder: DataFolder, clip: Clip) -> Path:
    """The clip's file."""
    return folder.clip(clip.project_id, clip.content_hash, clip.suffix)


def frame_name(clip: Clip, number: int) -> str:
    """What a frame is called as a picture and in files of labels.

    Examples
    --------
    >>> frame_name(Clip(name="belt-moving.mp4"), 12)
    'belt-moving-000012.png'
    """
    return f"{Path(clip.name).stem}-{number:06d}.png"


def frame_number(name: str) -> int | None:
    """The number of the frame that a picture of a file of labels is called by, or None.

    Examples
    --------
    >>> frame_number("frames/belt-moving-000012.png"), frame_number("belt.png")
    (12, None)
    """
    digits = re.search(r"(\d+)\D*$", Path(name).stem)
    return int(digits[1]) if digits and len(digits[1]) <= 9 else None
