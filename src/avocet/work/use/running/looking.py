"""What is found in pictures, and what counts of it."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.detections import PictureDetections, told_score
from avocet.core.errors import InputError
from avocet.core.raw.candidates import Candidates
from avocet.core.raw.suppressing import is_soft, thin_out
from avocet.core.raw.suppression import suppress
from avocet.core.raw.tiling import join_tiles, tiles_of
from avocet.core.regions import inside
from avocet.detector.model.finder import Finder
from avocet.work.use.running.order import DetectionOrder

WEAKER = 0.5
"""Boxes down to this share of the minimum score are recorded too: they may carry an object of a clip on, and the page
can show them without looking again."""

MOST_OTHERS = 300
"""Of one picture, best first."""

TILES_TOGETHER = 16

Row = dict[str, Any]
"""A picture or frame in the record: its name and size, its ``detections`` (class, score, box), and as ``others``
``[class number, score, x1, y1, x2, y2]`` of the boxes that were weaker or suppressed."""


class Looker:
    """Asks a model about pictures, as a detection run wants it.

    Parameters
    ----------
    finder : Finder
    order : DetectionOrder

    Raises
    ------
    InputError
        If the order does not fit the model.
    """

    def __init__(self, finder: Finder, order: DetectionOrder) -> None:
        order.check(finder.classes)
        self.finder, self.order = finder, order
        self.classes = list(finder.classes)
        self.least = order.least_scores(finder.classes)
        self.soft = is_soft(order.suppression)

    def look(self, pictures: Sequence[NDArray[np.uint8]]) -> list[Row]:
        """What is recorded of pictures, (H, W, 3) uint8, but for their names; boxes in their pixels."""
        floor = WEAKER * float(self.least.min())
        if self.order.tile is None:
            found = self.finder.candidates(pictures, floor) if pictures else []
        else:
            found = [self._in_tiles(each, floor) for each in pictures]
        return [self._row(each, seen.shape[:2]) for each, seen in zip(found, pictures, strict=True)]

    def check_size(self, width: int, height: int) -> None:
        """Raise `InputError` if a picture would be cut into too many tiles."""
        if self.order.tile is not None:
            try:
                tiles_of(width, height, self.order.tile)
            except ValueError as error:
                raise InputError(str(error)) from None

    def _in_tiles(self, pixels: NDArray[np.uint8], floor: float) -> Candidates:
        height, width = pixels.shape[:2]
        self.check_size(width, height)
        assert self.order.tile is not None
        tiles = tiles_of(width, height, self.order.tile)
        found: list[Candidates] = []
        for start in range(0, len(tiles), TILES_TOGETHER):
            some = tiles[start : start + TILES_TOGETHER]
            views = [pixels[each.top : each.bottom, each.left : each.right] for each in some]
            found += self.finder.candidates(views, floor)
        return join_tiles(found, tiles, width, height)

    def _row(self, found: Candidates, size: tuple[int, ...]) -> Row:
        height, width = size
        boxes = found.boxes
        counts = found.scores >= WEAKER * self.least[found.classes]
        if self.order.region:
            middles = (boxes[:, :2] + boxes[:, 2:]) / 2 / [width, height]
            counts &= inside(middles, self.order.region)
        boxes, scores, classes = boxes[counts], found.scores[counts], found.classes[counts]
        least = self.least[classes]
        strong = np.arange(len(scores)) if self.soft else np.flatnonzero(scores >= least)
        thinned = thin_out(
            boxes[strong],
            scores[strong],
            classes[strong],
            self.order.suppression,
            self.order.overlap_limit,
            least[strong],
        )
        # Where suppression is soft, the weaker ones too are told with what it left of their scores.
        scores = thinned.scores if self.soft else scores
        kept = strong[thinned.kept]
        rest = np.setdiff1d(np.flatnonzero(scores >= WEAKER * least), kept)
        rest = rest[np.argsort(-scores[rest], kind="stable")[:MOST_OTHERS]]
        # Whole columns at once: beside a network at work, time in the interpreter is what everything else waits for.
        shown, corners = told_score(scores).tolist(), np.round(boxes, 2).tolist()
        return {
            "width": width,
            "height": height,
            "detections": [
                {"class": self.classes[classes[n]], "score": shown[n], "box": corners[n]}
                for n in kept.tolist()
            ],
            "others": [[int(classes[n]), shown[n], *corners[n]] for n in rest.tolist()],
        }


def told(row: Row, numbers: Mapping[str, int]) -> PictureDetections:
    """What a row tells of, by the numbers of the classes."""
    rows = row["detections"]
    return PictureDetections(
        np.array([each["box"] for each in rows], dtype=np.float64).reshape(-1, 4),
        np.array([each["score"] for each in rows], dtype=np.float64),
        np.array([numbers[each["class"]] for each in rows], dtype=np.int64),
    )


def with_weaker(
    row: Row, numbers: Mapping[str, int], least: NDArray[np.float64], overlap_limit: float
) -> PictureDetections:
    """What a row tells of, and behind it the weaker boxes that nothing suppresses.

    Always from the row, so that objects come out the same where a run was broken off and went on.
    """
    strong = told(row, numbers)
    others = np.array(row["others"], dtype=np.float64).reshape(-1, 6)
    others = others[others[:, 1] < least[others[:, 0].astype(np.int64)]]
    boxes = np.concatenate([strong.boxes, others[:, 2:]])
    scores = np.concatenate([strong.scores, others[:, 1]])
    classes = np.concatenate([strong.classes, others[:, 0].astype(np.int64)])
    # What is told stays, whatever rounding has done to it.
    order_of = np.concatenate([np.ones(len(strong.scores)), others[:, 1]])
    kept = np.sort(suppress(boxes, order_of, overlap_limit, classes).kept)
    kept = np.union1d(np.arange(len(strong.scores)), kept)
    return PictureDetections(boxes[kept], scores[kept], classes[kept])
