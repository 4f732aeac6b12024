"""What runs on each machine: a model that is held, and looks at what it is given."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.raw.candidates import Candidates
from avocet.media.frames import FrameIndex, FrameReader
from avocet.work.cluster.joining import machine_name
from avocet.work.cluster.shipping import ShippedFile, ShippedModel, Unpacked, all_here
from avocet.work.use.running.clip_run import TOGETHER
from avocet.work.use.running.copies import Copier
from avocet.work.use.running.course import Input
from avocet.work.use.running.looking import Looker, Row
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.stills import StillWork


@dataclass(frozen=True)
class ShippedStill:
    """A picture to look at: its place among all inputs, what it is called, what its copy is, and what is white in it."""

    place: int
    name: str
    copy_name: str
    file: ShippedFile
    white: float | None = None


@dataclass(frozen=True)
class Answer:
    """What came of a request.

    Attributes
    ----------
    machine : str
    rows : list of dict
        One a picture, as in the record.
    files : dict of str to bytes
        What is to be written in the run's folder.
    missing : bool
        The worker does not see the files; they have to come along.
    """

    machine: str
    rows: list[Row] = field(default_factory=list)
    files: dict[str, bytes] = field(default_factory=dict)
    missing: bool = False


class RemoteLooker:
    """Holds a model and looks at pictures and pieces of clips, as the same code does on one machine.

    Parameters
    ----------
    model : ShippedModel
    order : dict
        A `DetectionOrder`; without one only candidates are asked for.
    """

    def __init__(self, model: ShippedModel, order: dict[str, Any] | None = None) -> None:
        self._finder = model.opened()
        self._looker = Looker(self._finder, DetectionOrder.model_validate(order)) if order else None
        self._clip: tuple[str, Unpacked, FrameReader] | None = None

    def ready(self) -> str:
        """The machine that it is on."""
        return machine_name()

    def stills(self, asked: Sequence[ShippedStill]) -> Answer:
        """Look at pictures, and draw their copies and crops where these are wanted."""
        if not all_here([each.file for each in asked]):
            return Answer(machine_name(), missing=True)
        assert self._looker is not None
        files: dict[str, bytes] = {}
        copier = Copier(self._looker.order, self._looker.classes, files.__setitem__)
        unpacked = Unpacked()
        try:
            items = [(each.place, Input(unpacked.path(each.file), each.name, each.white)) for each in asked]
            work = StillWork(self._looker, copier, {each.place: each.copy_name for each in asked})
            return Answer(machine_name(), work.copy(work.find(work.read(items))), files)
        finally:
            unpacked.close()

    def frames(self, file: ShippedFile, name: str, index: FrameIndex, numbers: Sequence[int]) -> Answer:
        """Look at some frames of a clip, up to the first that cannot be read."""
        if not file.is_here():
            return Answer(machine_name(), missing=True)
        assert self._looker is not None
        reader = self._reader(file, name, index)
        rows: list[Row] = []
        for start in range(0, len(numbers), TOGETHER):
            some = numbers[start : start + TOGETHER]
            frames = [reader.readable(number) for number in some]
            whole = [each for each in frames if each is not None]
            if len(whole) < len(some) or any(each.shape[:2] != (index.height, index.width) for each in whole):
                break
            found = self._looker.look([each.pixels for each in whole])
            rows += [
                {"name": name, "frame": int(number), "seconds": round(float(index.seconds[number]), 4)} | row
                for number, row in zip(some, found, strict=True)
            ]
        return Answer(machine_name(), rows)

    def candidates(self, pictures: Sequence[NDArray[np.uint8]], minimum_score: float) -> list[Candidates]:
        """What the model finds in pictures that came along."""
        return self._finder.candidates(pictures, minimum_score)

    def _reader(self, file: ShippedFile, name: str, index: FrameIndex) -> FrameReader:
        """The reader of a clip, kept from piece to piece."""
        if self._clip is None or self._clip[0] != file.path:
            if self._clip is not None:
                self._clip[2].close()
                self._clip[1].close()
            unpacked = Unpacked()
            self._clip = (file.path, unpacked, FrameReader(unpacked.path(file), index, name))
        return self._clip[2]
