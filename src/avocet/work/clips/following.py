"""Boxes followed through the frames of a clip, several at once, each frame read once."""

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.core.tracks.carried import Way
from avocet.core.tracks.following import Follower
from avocet.media.frames import FrameReader
from avocet.work.progress import Reporter

Corners = tuple[float, float, float, float]


class Told:
    """How far it is, and whether to stop."""

    def __init__(self, reporter: Reporter, total: int) -> None:
        self._reporter, self._total, self._done = reporter, total, 0
        self.stopped = False

    def frame(self) -> bool:
        """One more frame is done; returns whether to go on."""
        self._done += 1
        self._reporter.progress(self._done, self._total, f"{self._done} of {self._total} frames")
        self.stopped = self.stopped or self._reporter.should_stop()
        return not self.stopped


def follow_boxes(
    reader: FrameReader, numbers: Sequence[int], boxes: Sequence[Corners], told: Told
) -> list[Way]:
    """Follow several boxes at once, each frame read once."""
    ways = [Way([]) for _ in boxes]
    if not boxes or told.stopped:
        return ways
    frames = _frames(reader, numbers)
    first = next(frames, None)
    if first is None:
        raise InputError(f"frame {numbers[0]} is damaged; begin on another")
    followers = [Follower(first, each) for each in boxes]
    open_ways = set(range(len(boxes)))
    count = 0
    for pixels in frames:
        count += 1
        for place in sorted(open_ways):
            follower, way = followers[place], ways[place]
            way.steps.append(follower.step(pixels))
            if follower.left(pixels.shape[1], pixels.shape[0]):
                way.ended = "left"
                del way.steps[-1]
            elif follower.lost:
                way.ended = "lost"
            else:
                continue
            open_ways.discard(place)
        if not told.frame() or not open_ways:
            break
    if count < len(numbers) - 1 and open_ways and not told.stopped:
        for place in open_ways:
            ways[place].ended = "damaged"
    return ways


def _frames(reader: FrameReader, numbers: Sequence[int]) -> Iterator[NDArray[np.uint8]]:
    """The frames, up to the first that is damaged."""
    for number in numbers:
        frame = reader.readable(number)
        if frame is None:
            return
        yield frame.pixels
