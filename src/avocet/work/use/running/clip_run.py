"""Detection over a clip: decoded, looked at, drawn and packed at the same time, in the memory of a few frames."""

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.files import replacing
from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import ClipFrame, clip_info, read_frames
from avocet.media.planes import Planes
from avocet.work.progress import Stopped
from avocet.work.use.running.copies import ANNOTATED, Copier
from avocet.work.use.running.course import Course, Input
from avocet.work.use.running.looking import Looker, Row
from avocet.work.use.running.objects import ClipObjects
from avocet.work.use.running.pipeline import Pipeline, Stage

TOGETHER = 4
MOST_PIXELS = 12_000_000


@dataclass
class _Shown:
    """A frame on its way: its pixels, what was found, and how it is drawn."""

    frame: ClipFrame
    row: Row
    fresh: bool
    drawn: NDArray[np.uint8] | Planes | None = None
    numbers: list[int] = field(default_factory=list)


def look_at_clip(
    place: int,
    item: Input,
    recorded: Iterator[Row],
    objects: ClipObjects,
    looker: Looker,
    copier: Copier,
    course: Course,
    found: Iterator[Row] | None = None,
    skip: int = 0,
) -> None:
    """Look at a clip's frames.

    Parameters
    ----------
    place : int
        Of the clip among all inputs.
    item : Input
    recorded : iterator of dict
        What an earlier attempt has found on the first frames: that is not looked at again, only drawn.
    objects : ClipObjects
        Links what is found.
    looker : Looker
    copier : Copier
    course : Course
    found : iterator of dict, optional
        What others find on the frames that follow, as far as they come; the rest is looked at here.
    skip : int
        Frames at the beginning with which nothing is done any more.

    Raises
    ------
    Stopped
        If a person asked to stop; what was drawn so far is kept as a clip that plays.
    InputError
        If the clip cannot be read from here on, or results cannot be written.
    """
    order = looker.order
    numbers = {name: number for number, name in enumerate(looker.classes)}
    rate = clip_info(item.path, item.name).rate / order.every
    if order.a_second is not None:
        rate = min(rate, order.a_second)

    def find(frames: list[ClipFrame]) -> list[_Shown]:
        some: list[_Shown] = []
        for frame in frames:
            row = next(recorded, None)
            some.append(_Shown(frame, row or _of_others(found, frame), fresh=row is None))
        seen = [each for each in some if not each.row]
        for each, row in zip(seen, looker.look([each.frame.pixels for each in seen]), strict=True):
            when = {"frame": each.frame.number, "seconds": round(each.frame.seconds, 4)}
            each.row = {"name": item.name, **when} | row
        return some

    def draw(some: list[_Shown]) -> list[_Shown]:
        for each in some:
            each.numbers = objects.step(each.row, numbers)
            if copier.wanted:
                held = each.frame.held
                each.drawn = (
                    copier.drawn_planes(held.frame, each.row, each.numbers) if held.is_square else None
                )
                if each.drawn is None:
                    made = copier.drawn(each.frame.pixels, each.row, each.numbers)
                    each.drawn = copier.beside(each.frame.pixels, made)
            if each.fresh and order.crops:
                copier.crop(each.frame.pixels, each.row, f"{place:06d}-{each.frame.number:06d}")
        return some

    stages = [Stage("network", find), Stage("drawing", draw)]
    frames = read_frames(item.path, order.a_second, item.name, every=order.every, damage=course.problem)
    frames = islice(frames, skip, None)
    if not copier.wanted:
        _go(Pipeline("reading", stages), frames, course)
        return
    copy = copier.free_name(item.name, ".mp4")
    with replacing(course.record.path.parent / ANNOTATED / copy) as temporary:
        packer = _Packer(temporary, item.path if order.every_frame else None, rate)
        broken_off: Exception | None = None
        try:
            _go(Pipeline("reading", [*stages, Stage("packing", packer.pack)]), frames, course, copy)
        except (Stopped, InputError) as error:
            broken_off = error
            if not packer.begun:
                raise
        finally:
            packer.close()
    course.copies.append(copy)
    if broken_off is not None:
        raise broken_off


def _of_others(found: Iterator[Row] | None, frame: ClipFrame) -> Row:
    """What others found on a frame; nothing where they did not come so far, or count otherwise."""
    row = next(found, None) if found is not None else None
    return row if row is not None and row["frame"] == frame.number else {}


class _Packer:
    """Packs drawn frames into a clip, with the sound of the original."""

    def __init__(self, path: Path, sound_of: Path | None, rate: float) -> None:
        self._path, self._sound_of, self._rate = path, sound_of, rate
        self._writer: ClipWriter | None = None

    @property
    def begun(self) -> bool:
        return self._writer is not None

    def pack(self, some: list[_Shown]) -> list[_Shown]:
        for each in some:
            drawn = each.drawn
            assert drawn is not None
            if self._writer is None:
                height, width = drawn.shape[:2]
                self._writer = ClipWriter(self._path, width, height, self._rate, self._sound_of, quick=True)
            # Each is shown when the clip shows it, whatever was passed over or could not be read in between.
            if isinstance(drawn, Planes):
                self._writer.write_planes(drawn, each.frame.seconds)
            else:
                self._writer.write(drawn, each.frame.seconds)
            each.drawn = None
        return some

    def close(self) -> None:
        if self._writer is not None:
            self._writer.close()


def _go(pipeline: Pipeline, frames: Iterator[ClipFrame], course: Course, copy: str | None = None) -> None:
    course.working(lambda: pipeline.busy)
    running = pipeline.run(_together(frames))
    try:
        for some in running:
            for each in some:
                if not each.fresh:
                    course.before(each.row)
                    continue
                if copy is not None:
                    each.row["annotated"] = f"{ANNOTATED}/{copy}"
                course.add(each.row)
    finally:
        running.close()
        course.ended()


def _together(frames: Iterator[ClipFrame]) -> Iterator[list[ClipFrame]]:
    some: list[ClipFrame] = []
    for frame in frames:
        if some and frame.held.shape != some[0].held.shape:
            raise InputError(
                f"the frames change their size from {_size(some[0])} to {_size(frame)} at {frame.seconds:.2f} s"
            )
        some.append(frame)
        if len(some) == TOGETHER or len(some) * math.prod(frame.held.shape[:2]) > MOST_PIXELS:
            yield some
            some = []
    if some:
        yield some


def _size(frame: ClipFrame) -> str:
    return f"{frame.held.shape[1]}×{frame.held.shape[0]}"
