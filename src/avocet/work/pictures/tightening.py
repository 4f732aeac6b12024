"""Tightening boxes on a picture of the project."""

from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.core.labels.tighten import tighten
from avocet.cores import on_all_cores
from avocet.media.pictures import read_picture
from avocet.store.folder import DataFolder
from avocet.store.tables import Picture
from avocet.work.pictures.files import picture_path

DECIMALS = 1
"""Tightened edges are on tenths of a pixel, as drawn ones."""


def tighten_boxes(
    folder: DataFolder, picture: Picture, boxes: Sequence[Sequence[float]]
) -> list[tuple[float, float, float, float]]:
    """Fit roughly drawn boxes to what they hold. Raises `InputError` if one has no area in the picture."""
    pixels = _pixels(picture_path(folder, picture), picture.name, picture.white)

    def fitted(number: int) -> tuple[float, float, float, float]:
        try:
            found = tighten(pixels, boxes[number])
        except ValueError as error:
            raise InputError(f"box {number + 1} of {picture.name}: {error}") from None
        x1, y1, x2, y2 = np.round(found, DECIMALS).tolist()
        return x1, y1, x2, y2

    result = on_all_cores(fitted, range(len(boxes)))
    for each in result:
        if isinstance(each, InputError):
            raise each
    return [each for each in result if not isinstance(each, InputError)]


@lru_cache(maxsize=2)
def _pixels(path: Path, name: str, white: float | None) -> NDArray[np.uint8]:
    """The picture just worked on stays at hand: the same one is asked for again and again."""
    return read_picture(path, name, white=white)
