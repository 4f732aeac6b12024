"""Clips of a project, and the frames taken from them."""

import math
from pathlib import Path
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.files import copy_file, move_file, write_bytes
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.clips import clip_info, read_frames
from avocet.media.pictures import encode_jpeg
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Clip
from avocet.work.job_kinds import ClipFrames, Task
from avocet.work.job_outcomes import FramesTaken
from avocet.work.pictures.adding import Arrival, take_picture
from avocet.work.pictures.files import content_hash
from avocet.work.problems import by_number
from avocet.work.progress import Reporter, Stopped
from avocet.work.project.projects import get_project

MOST_SAMPLED = 5000
"""Frames taken from one clip at once."""


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
        return there
    session.add(made)
    session.flush()
    return made


def do_sampling(task: Task[ClipFrames]) -> FramesTaken:
    """Take frames from a clip in the background."""
    return sample_clip(task.sessions, task.folder, task.given.clip_id, task.given.per_second, task.reporter)


def sample_clip(
    sessions: Sessions, folder: DataFolder, clip_id: int, per_second: float, reporter: Reporter
) -> FramesTaken:
    """Take frames from a clip into the project as pictures.

    Every frame is stored as soon as it is decoded: a stop or a kill keeps what there is, and a
    second run adds only what is missing.
    """
    with reading(sessions)() as session:
        clip = get_clip(session, clip_id)
    path = folder.clip(clip.project_id, clip.content_hash, clip.suffix)
    expected = min(MOST_SAMPLED, max(1, math.ceil(clip.seconds * min(per_second, clip.rate))))
    added, known = 0, 0

    def stop_where_asked() -> None:
        if reporter.should_stop():
            raise Stopped

    for frame in read_frames(path, per_second, clip.name, stop_where_asked):
        stop_where_asked()
        if added + known >= MOST_SAMPLED:
            raise InputError(
                f"{clip.name} gives more than {MOST_SAMPLED} frames at {per_second:g} a second; "
                f"the first {MOST_SAMPLED} are kept. Sample more thinly."
            )
        name = f"{Path(clip.name).stem}-{frame.number:06d}.jpg"
        incoming = folder.incoming / f"clip-{clip_id}-frame.jpg"
        write_bytes(incoming, encode_jpeg(frame.pixels))
        arrival = Arrival(incoming, name, clip=clip, frame_number=frame.number, keep="move")
        result = take_picture(sessions, folder, clip.project_id, arrival)
        added, known = added + result.fresh, known + (not result.fresh)
        reporter.progress(added + known, max(expected, added + known), f"{added + known} frames taken")
        incoming.unlink(missing_ok=True)
    return FramesTaken(added=added, already_there=known)


def get_clip(session: Session, clip_id: int) -> Clip:
    """The clip, or `NotFound`."""
    return by_number(session, Clip, clip_id, "clip")


def list_clips(session: Session, project_id: int) -> list[Clip]:
    """The project's clips, oldest first."""
    return list(session.scalars(select(Clip).where(Clip.project_id == project_id).order_by(Clip.id)))
