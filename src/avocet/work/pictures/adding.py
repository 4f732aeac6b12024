"""Pictures taken into a project: read, checked and copied first, recorded last."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.cores import on_all_cores
from avocet.files import copy_file, move_file
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.deep import DEEP_SUFFIXES, white_for
from avocet.media.pictures import SUFFIXES as PICTURE_SUFFIXES
from avocet.media.pictures import has_more_pages, picture_depth, picture_size
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.rows import among
from avocet.store.tables import Clip, Picture
from avocet.work.pictures.files import content_hash
from avocet.work.pictures.small import checked_small, keep_small
from avocet.work.pictures.white import settle_white
from avocet.work.project.projects import get_project

Keep = Literal["copy", "move", "in place"]
"""What becomes of a file that is added: it stays and is copied, it is ours to move, or it is read where it lies."""


Seen = Literal["whole", "decoded", "header"]
"""How far a picture is looked at on arrival. `avocet.work.pictures.thumbnails` makes up for the rest later:
thumbnail and look of what was only decoded, and whether it can be decoded where only the header was read."""


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
    seen : {'whole', 'decoded', 'header'}
    """

    path: Path
    name: str
    digest: str = ""
    source: str = ""
    clip: Clip | None = None
    frame_number: int | None = None
    keep: Keep = "copy"
    seen: Seen = "whole"


@dataclass(frozen=True)
class Added:
    """What became of one file. ``fresh`` is false where the same content was there already."""

    picture: Picture
    fresh: bool
    remark: str = ""
    """What whoever sent it should know."""


def take_picture(sessions: Sessions, folder: DataFolder, project_id: int, arrival: Arrival) -> Added:
    """Take a picture into the project, unless the same content is there.

    Raises
    ------
    InputError
        If it is not a picture that can be read.
    """
    taken = take_pictures(sessions, folder, project_id, [arrival])[0]
    if isinstance(taken, InputError):
        raise taken
    return taken


def take_pictures(
    sessions: Sessions, folder: DataFolder, project_id: int, arrivals: Sequence[Arrival]
) -> list[Added | InputError]:
    """Take pictures into the project, one after the other, except those whose content is there.

    They are hashed, decoded and copied on all cores. Whoever else wants to write waits only for
    the records, which are written last and in one transaction.

    Returns
    -------
    list of Added or InputError
        What became of each; of one that cannot be read, why.
    """
    with reading(sessions)() as session:
        get_project(session, project_id)
    digests = on_all_cores(_digest, arrivals)
    hashes = {each for each in digests if isinstance(each, str)}
    with reading(sessions)() as session:
        there = _known(session, project_id, hashes).keys()
    first: dict[str, Arrival] = {}
    for arrival, digest in zip(arrivals, digests, strict=True):
        if isinstance(digest, str) and digest not in there:
            first.setdefault(digest, arrival)
    made = on_all_cores(lambda new: _prepared(folder, project_id, new[1], new[0]), list(first.items()))
    with sessions.begin() as session:
        return _recorded(session, project_id, digests, dict(zip(first, made, strict=True)))


def _recorded(
    session: Session,
    project_id: int,
    digests: Sequence[str | InputError],
    prepared: Mapping[str, Added | InputError],
) -> list[Added | InputError]:
    # Asked again: somebody else may have added the same meanwhile.
    known = _known(session, project_id, {each for each in digests if isinstance(each, str)})
    result: list[Added | InputError] = []
    for digest in digests:
        if isinstance(digest, InputError):
            result.append(digest)
        elif there := known.get(digest):
            there.binned_at = None
            result.append(Added(there, fresh=False, remark=f"The same picture is there as {there.name}"))
        else:
            made = prepared[digest]
            if isinstance(made, Added):
                session.add(made.picture)
                known[digest] = made.picture
            result.append(made)
    settle_white(
        session, project_id, [each.picture for each in result if isinstance(each, Added) and each.fresh]
    )
    session.flush()
    return result


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
    arrival = Arrival(path, name, keep=keep)
    digest = _digest(arrival)
    new = known_picture(session, project_id, digest) is None
    prepared = {digest: _prepared(folder, project_id, arrival, digest)} if new else {}
    added = _recorded(session, project_id, [digest], prepared)[0]
    assert isinstance(added, Added)
    return added


def known_picture(session: Session, project_id: int, digest: str) -> Picture | None:
    """The project's picture of that content, also one in the bin."""
    return _known(session, project_id, {digest}).get(digest)


def _prepared(folder: DataFolder, project_id: int, arrival: Arrival, digest: str) -> Added:
    """A picture that was looked at and lies where it belongs, and is not yet recorded.

    Unless only its header is wanted, the picture is read to its end here, so that a damaged file is
    refused on arrival; its thumbnail and its look are made of the same pixels. Raises `InputError`.
    """
    path, name = arrival.path, arrival.name
    width, height = picture_size(path, name)
    remark = f"{name} has several pages or frames; only the first is taken" if has_more_pages(path) else ""
    depth = picture_depth(path, name) if Path(name).suffix.lower() in DEEP_SUFFIXES else None
    # With the white of its own: that of all of them is settled when they are recorded.
    white = white_for(depth, None, None) if depth is not None else None
    look = None
    if arrival.seen == "whole":
        look = keep_small(path, name, width, height, folder.thumbnail(project_id, digest, white), white)
    elif arrival.seen == "decoded":
        checked_small(path, name, width, height, white)
    status = path.stat()
    suffix = Path(name).suffix.lower()
    if arrival.keep != "in place":
        put = copy_file if arrival.keep == "copy" else move_file
        put(path, folder.picture(project_id, digest, suffix))
    picture = Picture(
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
        look=look,
        white=white,
        declared_white=depth.declared if depth is not None else None,
        least_white=depth.least if depth is not None else None,
    )
    return Added(picture, fresh=True, remark=remark)


def _known(session: Session, project_id: int, digests: Collection[str]) -> dict[str, Picture]:
    query = select(Picture).where(
        Picture.project_id == project_id, among(Picture.content_hash, sorted(digests))
    )
    return {each.content_hash: each for each in session.scalars(query)}


def _digest(arrival: Arrival) -> str:
    _check_kind(arrival.name)
    try:
        return arrival.digest or content_hash(arrival.path)
    except OSError as error:
        raise InputError(f"{arrival.name} cannot be read: {error.strerror}") from None


def _check_kind(name: str) -> None:
    if Path(name).suffix.lower() not in PICTURE_SUFFIXES:
        raise InputError(
            f"{name} is neither a picture ({', '.join(sorted(PICTURE_SUFFIXES))}) "
            f"nor a clip ({', '.join(sorted(CLIP_SUFFIXES))})"
        )
