"""Pictures as small as their thumbnails: read to their end, checked, kept, and compared by their look."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.core.labels.looks import picture_look
from avocet.files import write_bytes
from avocet.media.pictures import encode_jpeg, small_picture

LONGER_SIDE = 320
"""Of a thumbnail, in pixels."""

QUALITY = 82


def checked_small(
    path: Path, name: str, width: int, height: int, white: float | None = None
) -> NDArray[np.uint8]:
    """A small picture, once the file was read to its end and lies as its header says. Raises `InputError`."""
    small = small_picture(path, LONGER_SIDE, name, white)
    high, wide = small.shape[:2]
    if (height > width) != (high > wide) and high != wide:
        raise InputError(f"{name} is damaged: it lies otherwise than its header says")
    return small


def keep_small(
    path: Path, name: str, width: int, height: int, thumbnail: Path, white: float | None = None
) -> int:
    """Check a picture as `checked_small`, keep its thumbnail unless there is one, and tell its look."""
    small = checked_small(path, name, width, height, white)
    if not thumbnail.is_file():
        write_bytes(thumbnail, encode_jpeg(small, QUALITY))
    return picture_look(small)
