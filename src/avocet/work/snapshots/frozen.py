"""What a snapshot holds, and its pictures ready to train or measure on."""

from collections import Counter
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from avocet.core.boxes import as_boxes
from avocet.core.detections import PictureTruth
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.formats.record import IGNORE, RecordedPicture
from avocet.media.pictures import read_picture
from avocet.store.folder import DataFolder
from avocet.store.tables import Part
from avocet.work.pictures.files import unchanged
from avocet.work.problems import NotFound


class FrozenBox(NamedTuple):
    """A box of a snapshot, kept as a plain list in its file.

    Attributes
    ----------
    label : int
        Place of its class among the snapshot's.
    x1, y1, x2, y2 : float
        Corners in original pixels.
    crowd : bool
    """

    label: int
    x1: float
    y1: float
    x2: float
    y2: float
    crowd: bool

    @property
    def corners(self) -> tuple[float, float, float, float]:
        return self.x1, self.y1, self.x2, self.y2


class FrozenPicture(BaseModel):
    """A picture of a snapshot.

    Attributes, track numbers and areas of outlines are kept by the box's place in the list, where there are any;
    ``path`` says where a picture lies that was not copied, ``white`` what is white in one of more than 8 bits.
    """

    id: int
    name: str
    content_hash: str
    suffix: str
    width: int
    height: int
    part: Part | None
    boxes: list[FrozenBox]
    attributes: dict[int, dict[str, Any]] = {}
    tracks: dict[int, int] = {}
    areas: dict[int, float] = {}
    path: str | None = None
    white: float | None = None


class Frozen(BaseModel):
    """What a snapshot holds."""

    classes: list[str]
    pictures: list[FrozenPicture]


class PartSummary(BaseModel):
    """What a part of a snapshot holds; ``boxes`` by class name, without classes that it has none of."""

    part: Part | None
    pictures: int
    boxes: dict[str, int]


class SnapshotSummary(BaseModel):
    """A snapshot in a few sums; parts without pictures are left out."""

    classes: list[str]
    parts: list[PartSummary]


def summary_of(frozen: Frozen) -> SnapshotSummary:
    """Count what each part of a snapshot holds."""
    parts = []
    for part in (*Part, None):
        pictures = [picture for picture in frozen.pictures if picture.part == part]
        labels = Counter(box.label for picture in pictures for box in picture.boxes)
        boxes = {frozen.classes[label]: labels[label] for label in sorted(labels)}
        if pictures:
            parts.append(PartSummary(part=part, pictures=len(pictures), boxes=boxes))
    return SnapshotSummary(classes=frozen.classes, parts=parts)


def labelled_pictures(
    folder: DataFolder, project_id: int, frozen: Frozen, part: Part | None
) -> list[LabelledPicture]:
    """The pictures of one part, ready to train or measure on."""
    return [
        LabelledPicture(
            picture.name,
            picture.width,
            picture.height,
            _Reader(folder, project_id, picture),
            truth_in(picture),
            picture.white,
        )
        for picture in frozen.pictures
        if picture.part == part
    ]


def truth_in(picture: FrozenPicture) -> PictureTruth:
    """A picture's truths. Boxes marked to be ignored are."""
    return PictureTruth(
        as_boxes([box.corners for box in picture.boxes]),
        np.array([box.label for box in picture.boxes], dtype=np.int64),
        ignored_boxes(picture),
        np.array([box.crowd for box in picture.boxes], dtype=bool),
        np.array([picture.areas.get(place, np.nan) for place in range(len(picture.boxes))]),
    )


def frozen_from(
    picture: RecordedPicture, number: int, digest: str = "", suffix: str = "", white: float | None = None
) -> FrozenPicture:
    """A picture of a file of truths that was sent or named, to measure on."""
    boxes = list(enumerate(picture.boxes))
    return FrozenPicture(
        id=number,
        name=picture.name,
        content_hash=digest,
        suffix=suffix,
        width=picture.width,
        height=picture.height,
        part=None,
        boxes=[FrozenBox(box.label, *box.corners, box.crowd) for box in picture.boxes],
        attributes={place: {IGNORE: True} for place, box in boxes if box.attributes.get(IGNORE)},
        areas={place: box.area for place, box in boxes if box.area is not None},
        white=white,
    )


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


class _Reader:
    """Reads one picture when called."""

    def __init__(self, folder: DataFolder, project_id: int, picture: FrozenPicture) -> None:
        self._folder, self._project_id, self._picture = folder, project_id, picture

    def __call__(self) -> Any:
        picture = self._picture
        return read_picture(
            frozen_file(self._folder, self._project_id, picture), picture.name, white=picture.white
        )
