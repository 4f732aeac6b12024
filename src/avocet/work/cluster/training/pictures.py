"""The pictures of a training on other machines: by their path where these see them, else sent, once for all."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from avocet.core.detections import PictureTruth
from avocet.core.errors import InputError
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.media.pictures import read_picture
from avocet.store.folder import DataFolder
from avocet.store.tables import Part
from avocet.work.cluster.shipping import ShippedFile, Unpacked, all_here
from avocet.work.snapshots.frozen import Frozen, frozen_file, truth_in

SENT_AT_ONCE = 64
"""Pictures that travel together."""


@dataclass(frozen=True)
class ShippedPicture:
    """A picture to learn from or to validate on: its truths, and where its file is."""

    name: str
    width: int
    height: int
    truth: PictureTruth
    file: ShippedFile
    white: float | None = None


@dataclass(frozen=True)
class ShippedPictures:
    """Both parts of a snapshot that a training needs."""

    training: tuple[ShippedPicture, ...]
    validation: tuple[ShippedPicture, ...]

    @classmethod
    def of(cls, frozen: Frozen, folder: DataFolder, project_id: int) -> "ShippedPictures":
        """Named, not read. Raises `InputError` if a picture is gone."""
        parts = [
            tuple(
                ShippedPicture(
                    each.name,
                    each.width,
                    each.height,
                    truth_in(each),
                    ShippedFile.of(frozen_file(folder, project_id, each)),
                    each.white,
                )
                for each in frozen.pictures
                if each.part == part
            )
            for part in (Part.TRAINING, Part.VALIDATION)
        ]
        return cls(*parts)

    @property
    def files(self) -> list[ShippedFile]:
        """The files of all, those to learn from first."""
        return [each.file for each in (*self.training, *self.validation)]


class HoldsPictures:
    """What holds them on another machine."""

    def __init__(self, shipped: ShippedPictures) -> None:
        self._shipped, self._unpacked = shipped, Unpacked()
        self._paths = {place: Path(file.path) for place, file in enumerate(shipped.files)}

    def sees_files(self) -> bool:
        """Whether it sees the very same files, or they have to be sent."""
        return all_here(self._shipped.files)

    def take(self, files: Mapping[int, ShippedFile]) -> None:
        """Put down files that were sent, by their place."""
        self._paths |= {place: self._unpacked.path(file) for place, file in files.items()}

    @property
    def training(self) -> list[LabelledPicture]:
        """Those to learn from, ready."""
        return self._labelled(self._shipped.training, 0)

    @property
    def validation(self) -> list[LabelledPicture]:
        """Those to validate on, ready."""
        return self._labelled(self._shipped.validation, len(self._shipped.training))

    def _labelled(self, some: Sequence[ShippedPicture], start: int) -> list[LabelledPicture]:
        return [
            LabelledPicture(
                each.name,
                each.width,
                each.height,
                partial(read_picture, self._paths[place], each.name, white=each.white),
                each.truth,
                each.white,
            )
            for place, each in enumerate(some, start)
        ]


class PicturePost:
    """Sends pictures through the engine's own store; what was put there once others take from there as well.

    Parameters
    ----------
    ray : module
    shipped : ShippedPictures
    """

    def __init__(self, ray: Any, shipped: ShippedPictures) -> None:
        self._ray, self._files = ray, shipped.files
        self._put: list[Any] = []

    def send(self, actors: Sequence[Any]) -> None:
        """To actors that do not see the files and have ``take``. Raises `InputError` if one cannot be read."""
        for number, start in enumerate(range(0, len(self._files), SENT_AT_ONCE) if actors else ()):
            if number == len(self._put):
                self._put.append(self._ray.put(self._read(start)))
            self._ray.get([actor.take.remote(self._put[number]) for actor in actors])

    def _read(self, start: int) -> dict[int, ShippedFile]:
        end = min(start + SENT_AT_ONCE, len(self._files))
        some = {place: self._files[place].with_content() for place in range(start, end)}
        if gone := [each.path for each in some.values() if each.content is None]:
            raise InputError(f"{gone[0]} cannot be read")
        return some
