"""Detection over pictures: read ahead, looked at several at a time, copied while the next are looked at."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.media.pictures import picture_size, read_picture
from avocet.work.use.running.copies import ANNOTATED, Copier
from avocet.work.use.running.course import Course, Input
from avocet.work.use.running.looking import Looker, Row
from avocet.work.use.running.pipeline import Pipeline, Stage

TOGETHER = 8
"""Pictures that are looked at in one go."""

MOST_PIXELS = 24_000_000
"""Of pictures that are in memory together, unless one alone has more."""

READERS = 2


@dataclass(frozen=True)
class _Read:
    """A picture that was read, or why it was not."""

    place: int
    item: Input
    pixels: NDArray[np.uint8] | None = None
    problem: str = ""


class StillWork:
    """What is done to a few pictures at a time, here or on another machine.

    Parameters
    ----------
    looker : Looker
    copier : Copier
    names : mapping of int to str
        What the copy of each is called, by its place among all inputs.
    """

    def __init__(self, looker: Looker, copier: Copier, names: Mapping[int, str]) -> None:
        self._looker, self._copier, self._names = looker, copier, names

    def read(self, some: Sequence[tuple[int, Input]]) -> list[_Read]:
        """Decode them; of what cannot be read the reason is kept."""
        return [_read(place, item, self._looker) for place, item in some]

    def find(self, some: Sequence[_Read]) -> list[tuple[_Read, Row]]:
        """Ask the model."""
        seen = [each for each in some if each.pixels is not None]
        pixels = [each.pixels for each in seen if each.pixels is not None]
        rows = iter(self._looker.look(pixels))
        return [
            (
                each,
                {"name": each.item.name}
                | (next(rows) if each.pixels is not None else {"problem": each.problem}),
            )
            for each in some
        ]

    def copy(self, some: Sequence[tuple[_Read, Row]]) -> list[Row]:
        """Draw and cut what is wanted; their rows as they are recorded."""
        for each, row in some:
            if each.pixels is None:
                continue
            if self._copier.wanted:
                name = self._names[each.place]
                row["annotated"] = f"{ANNOTATED}/{name}"
                self._copier.write(name, self._copier.drawn(each.pixels, row))
            self._copier.crop(each.pixels, row, f"{each.place:06d}")
        return [row for _, row in some]


def look_at_stills(
    items: Sequence[tuple[int, Input]],
    names: Mapping[int, str],
    looker: Looker,
    copier: Copier,
    course: Course,
) -> None:
    """Look at pictures; what cannot be read is recorded as a problem.

    Parameters
    ----------
    items : sequence of (int, Input)
        With the place of each among all inputs.
    names : mapping of int to str
        What the copy of each is called.
    looker : Looker
    copier : Copier
    course : Course

    Raises
    ------
    Stopped
        If a person asked to stop.
    InputError
        If results cannot be written.
    """
    work = StillWork(looker, copier, names)
    stages = [Stage("reading", work.read, READERS), Stage("network", work.find)]
    if copier.whole_pictures:
        stages.append(Stage("drawing and writing", work.copy))
    else:
        stages.append(Stage("writing", work.copy))
    pipeline = Pipeline("listing", stages)
    course.working(lambda: pipeline.busy)
    try:
        running = pipeline.run(portions(items))
        try:
            for rows in running:
                for row in rows:
                    course.add_picture(row)
        finally:
            running.close()
    finally:
        course.ended()


def portions(items: Sequence[tuple[int, Input]]) -> Iterator[list[tuple[int, Input]]]:
    """A few pictures at a time: not more than fit into memory together."""
    some: list[tuple[int, Input]] = []
    pixels = 0
    for place, item in items:
        try:
            width, height = picture_size(item.path, item.name)
        except InputError:
            width = height = 0  # told when it is read
        if some and (len(some) == TOGETHER or pixels + width * height > MOST_PIXELS):
            yield some
            some, pixels = [], 0
        some.append((place, item))
        pixels += width * height
    if some:
        yield some


def _read(place: int, item: Input, looker: Looker) -> _Read:
    try:
        looker.check_size(*picture_size(item.path, item.name))
        return _Read(place, item, read_picture(item.path, item.name, white=item.white))
    except InputError as error:
        return _Read(place, item, problem=str(error))
