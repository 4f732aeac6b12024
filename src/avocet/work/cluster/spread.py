"""A detection run over several machines: what one machine does in its own threads is dealt out, and comes back in order."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from avocet.core.errors import InputError
from avocet.media.clips import FrameChoice, clip_info
from avocet.media.frames import FrameIndex, index_frames
from avocet.work.cluster.joining import joined
from avocet.work.cluster.pool import LookerPool
from avocet.work.cluster.shipping import ShippedFile, ShippedModel
from avocet.work.cluster.worker import Answer, ShippedStill
from avocet.work.models.bundle_set import Bundles
from avocet.work.use.running.clip_run import TOGETHER, look_at_clip
from avocet.work.use.running.copies import Copier, into_folder
from avocet.work.use.running.course import Course, Input
from avocet.work.use.running.looking import Looker, Row
from avocet.work.use.running.objects import ClipObjects
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.pipeline import Pipeline, Stage
from avocet.work.use.running.stills import portions

PIECE = 8 * TOGETHER
"""Frames of a clip that a worker is given at once."""


@contextmanager
def spreading(
    address: str | None, bundles: Bundles, order: DetectionOrder, title: str
) -> "Iterator[Spread | None]":
    """Workers on the machines of a cluster for one detection run; None without an address.

    Raises
    ------
    InputError
        If the cluster cannot be joined.
    """
    if not address:
        yield None
        return
    with joined(address) as cluster:
        pool = LookerPool(cluster, ShippedModel.of(bundles), order.model_dump(mode="json"), title)
        try:
            yield Spread(pool)
        finally:
            pool.close()


class Spread:
    """Deals a run's pictures and pieces of clips out to workers.

    The rows are those of one machine, as the same code looks at the same pixels in the same portions; who writes
    the record is this process alone.

    Parameters
    ----------
    pool : LookerPool
    """

    def __init__(self, pool: LookerPool) -> None:
        self._pool = pool
        self._sends = False

    @property
    def told(self) -> dict[str, Any]:
        """What a summary says of the machines."""
        return {"machines": dict(self._pool.done_on), "workers_lost": self._pool.lost}

    def stills(
        self,
        items: Sequence[tuple[int, Input]],
        names: Mapping[int, str],
        course: Course,
    ) -> None:
        """Look at pictures; raises as `look_at_stills` does."""
        keep = into_folder(course.record.path.parent)

        def find(some: Sequence[tuple[int, Input]]) -> list[Row]:
            asked = [
                ShippedStill(place, item.name, names[place], ShippedFile.of(item.path), item.white)
                for place, item in some
            ]
            answer = self._answered(
                lambda sent: (
                    "stills",
                    [_sent(each) for each in asked] if sent else asked,
                )
            )
            for name, content in answer.files.items():
                keep(name, content)
            return answer.rows

        for rows in self._running(portions(items), find, course):
            for row in rows:
                course.add_picture(row)

    def clip(
        self,
        place: int,
        item: Input,
        recorded: Sequence[Row],
        objects: ClipObjects,
        looker: Looker,
        copier: Copier,
        course: Course,
    ) -> None:
        """Look at a clip in pieces; raises as `look_at_clip` does.

        Where it is damaged the machine that asks reads on alone: only from the beginning on can be told what is
        whole behind it.
        """
        order = looker.order
        index = index_frames(item.path, item.name)
        choice = FrameChoice(clip_info(item.path, item.name).rate, order.every, order.a_second)
        chosen = [
            number for number, seconds in enumerate(index.seconds.tolist()) if choice.takes(number, seconds)
        ]
        rest = chosen[len(recorded) :]
        if copier.whole_pictures:
            rows = self._rows(item, index, rest, course)
            look_at_clip(place, item, iter(recorded), objects, looker, copier, course, found=rows)
            return
        numbers = {name: number for number, name in enumerate(looker.classes)}
        for row in recorded:
            objects.step(row, numbers)
            course.before(row)
        done = len(recorded)
        for row in self._rows(item, index, rest, course):
            objects.step(row, numbers)
            course.add(row)
            done += 1
        if done < len(chosen):
            look_at_clip(place, item, iter(()), objects, looker, copier, course, skip=done)

    def _rows(self, item: Input, index: FrameIndex, numbers: Sequence[int], course: Course) -> Iterator[Row]:
        """The rows of a clip's frames in order, up to the first that cannot be read."""
        file = ShippedFile.of(item.path)
        sent = None

        def find(piece: Sequence[int]) -> tuple[bool, list[Row]]:
            nonlocal sent

            def given(with_content: bool) -> tuple[Any, ...]:
                nonlocal sent
                if with_content and sent is None:
                    sent = self._pool.put(file.with_content())
                return "frames", sent if with_content else file, item.name, index, piece

            answer = self._answered(given)
            return len(answer.rows) == len(piece), answer.rows

        pieces = (numbers[start : start + PIECE] for start in range(0, len(numbers), PIECE))
        for whole, rows in self._running(pieces, find, course):
            yield from rows
            if not whole:
                return

    def _running(self, items: Iterator[Any], find: Any, course: Course) -> Iterator[Any]:
        pipeline = Pipeline("listing", [Stage("cluster", find, self._pool.at_once)])
        course.working(lambda: pipeline.busy)
        running = pipeline.run(items)
        try:
            yield from running
        finally:
            running.close()
            course.ended()

    def _answered(self, given: Any) -> Answer:
        """Asked by path first; with the files where a worker does not see them, and from then on."""
        if not self._sends:
            answer: Answer = self._pool.ask(*given(False))
            if not answer.missing:
                return answer
            self._sends = True
        answer = self._pool.ask(*given(True))
        if answer.missing:
            raise InputError("a picture was changed while it was looked at")
        return answer


def _sent(still: ShippedStill) -> ShippedStill:
    return ShippedStill(still.place, still.name, still.copy_name, still.file.with_content(), still.white)
