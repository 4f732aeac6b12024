"""Where the files of pictures lie, and whether they are still the ones that were added."""

import hashlib
import shutil
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.files import write_bytes
from avocet.media.pictures import encode_jpeg, read_picture
from avocet.store.folder import DataFolder
from avocet.store.tables import Picture
from avocet.work.problems import NotFound, by_number

NOT_SHOWN_BY_BROWSERS = frozenset({".tif", ".tiff"})


@dataclass(frozen=True)
class StoredPicture:
    """A picture that is no record of the project any more, or never was one, and whose file is known."""

    project_id: int
    name: str
    content_hash: str
    suffix: str
    path: str | None = None
    file_size: int | None = None
    file_time: int | None = None
    white: float | None = None


def content_hash(path: Path) -> str:
    """SHA-256 of a file's bytes, in hexadecimal."""
    with path.open("rb") as opened:
        return hashlib.file_digest(opened, "sha256").hexdigest()


def get_picture(session: Session, picture_id: int) -> Picture:
    """The picture, or `NotFound`."""
    return by_number(session, Picture, picture_id, "picture")


def picture_path(folder: DataFolder, picture: Picture | StoredPicture) -> Path:
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
    """The path of a file that lies outside, once it is sure that it is still the one that was added.

    Where it lies on this machine is not told to whoever asks for it.
    """
    if not path.is_file():
        raise NotFound(
            f"the file of {name} is not in the folder {path.parent.name} any more; its labels are kept"
        )
    status = path.stat()
    if (status.st_size, status.st_mtime_ns) != (size, time) and content_hash(path) != digest:
        raise InputError(
            f"{name} was changed on disk after it was added; its labels are kept. "
            "Put the former file back, or add the changed one as a new picture."
        )
    return path


def viewable_path(folder: DataFolder, picture: Picture | StoredPicture) -> Path:
    """The picture's file where browsers show it as it is read, else a JPEG of it, made now if there is none yet."""
    original = picture_path(folder, picture)
    if picture.suffix not in NOT_SHOWN_BY_BROWSERS and picture.white is None:
        return original
    path = folder.rendition(picture.project_id, picture.content_hash, picture.white)
    if not path.is_file():
        write_bytes(path, encode_jpeg(read_picture(original, picture.name, white=picture.white), quality=95))
    return path


def picture_pixels(folder: DataFolder, picture: Picture | StoredPicture) -> NDArray[np.uint8]:
    """The upright picture as (H, W, 3) 8-bit RGB. Raises as `picture_path` and `read_picture`."""
    return read_picture(picture_path(folder, picture), picture.name, white=picture.white)


def check_space(folder: DataFolder, needed: int) -> None:
    """Raise `InputError` where the disk has not so many bytes free."""
    folder.root.mkdir(parents=True, exist_ok=True)
    free = shutil.disk_usage(folder.root).free
    if free < needed:
        raise InputError(f"the disk of {folder.root} has {free:,} bytes free; {needed:,} are needed")
