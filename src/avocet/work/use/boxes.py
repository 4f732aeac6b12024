"""Boxes of a detection run one by one: sorted, in rows, and cut out of their pictures."""

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import area
from avocet.core.errors import InputError
from avocet.media.clips import frame_at
from avocet.media.cropping import crop_picture, crop_pixels, square_around
from avocet.media.pictures import encode_jpeg
from avocet.work.problems import NotFound
from avocet.work.use.found import Found, Whole, looked_at
from avocet.work.use.running.course import Input

BoxOrder = Literal["as they came", "least sure", "surest", "smallest", "largest"]

CROP_SIDE = 160
"""Pixels of a crop's sides."""


def sorted_boxes(
    found: Found, chosen: Whole, order: BoxOrder = "as they came", with_class: str | None = None
) -> Whole:
    """Boxes that count, sorted; of one class where one is named. Raises `InputError` for one that is unknown."""
    if with_class is not None:
        if with_class not in found.classes:
            raise InputError(f"the model does not know the class {with_class!r}")
        chosen = chosen[found.kinds[chosen] == found.classes.index(with_class)]
    if order == "as they came":
        return chosen
    if order in ("least sure", "surest"):
        key = found.scores[chosen] * (1 if order == "least sure" else -1)
    else:
        key = area(found.boxes[chosen]) * (1 if order == "smallest" else -1)
    return chosen[np.argsort(key, kind="stable")]


def box_rows(found: Found, boxes: Sequence[int]) -> list[dict[str, Any]]:
    """Boxes with the picture that each lies on."""
    rows = []
    for number in boxes:
        place = int(found.owner[number])
        looked = found.looked[place]
        rows.append(
            {
                "number": int(number),
                "place": place,
                "name": looked.name,
                "frame": looked.frame if looked.frame >= 0 else None,
                "seconds": looked.seconds if looked.frame >= 0 else None,
                "class_name": found.classes[found.kinds[number]],
                "score": float(found.scores[number]),
                "box": found.boxes[number].tolist(),
                "object": int(found.objects[number]),
            }
        )
    return rows


def crop_of(item: Input, found: Found, number: int) -> bytes:
    """A box with a little around it, square, as the bytes of a JPEG.

    Parameters
    ----------
    item : Input
        The picture or clip that it was found on.
    found : Found
    number : int
        Of the box, as in `box_rows`.

    Raises
    ------
    NotFound
        If there is no such box.
    InputError
        If the picture cannot be read any more.
    """
    if not 0 <= number < len(found.scores):
        raise NotFound(f"the run has no box {number}")
    looked = looked_at(found, int(found.owner[number]))
    if looked.frame >= 0:
        return crop_of_frame(frame_at(item.path, looked.seconds, looked.name), found, number)
    region = square_around(found.boxes[number].tolist())
    return encode_jpeg(crop_picture(item.path, region, CROP_SIDE, looked.name, item.white), quality=88)


def crop_of_frame(pixels: NDArray[np.uint8], found: Found, number: int) -> bytes:
    """The same from a frame's pixels."""
    looked = looked_at(found, int(found.owner[number]))
    region = square_around(found.boxes[number].tolist())
    return encode_jpeg(crop_pixels(pixels, region, CROP_SIDE, looked.width), quality=88)
