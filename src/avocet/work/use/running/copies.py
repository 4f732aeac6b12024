"""Copies of what was looked at: with boxes drawn in, or covered; and crops of every box."""

import io
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from av import VideoFrame
from numpy.typing import NDArray
from PIL import Image

from avocet.files import write_bytes
from avocet.media.covering import cover_boxes
from avocet.media.drawing import draw_boxes, draw_on_planes
from avocet.media.pictures import encode_jpeg
from avocet.media.planes import Planes, planes_of
from avocet.palette import COLOURS
from avocet.work.use.running.looking import Row
from avocet.work.use.running.order import DetectionOrder

ANNOTATED, CROPS = "annotated", "crops"


class Copier:
    """Makes copies as an order wants them.

    Parameters
    ----------
    order : DetectionOrder
    classes : sequence of str
    keep : callable
        Takes the name of a file in the run's folder, and its bytes.
    """

    def __init__(
        self, order: DetectionOrder, classes: Sequence[str], keep: Callable[[str, bytes], object]
    ) -> None:
        self._order, self._keep = order, keep
        self._colours = {name: COLOURS[number % len(COLOURS)] for number, name in enumerate(classes)}
        self._taken: set[str] = set()

    @property
    def wanted(self) -> bool:
        """Whether copies are made at all."""
        return self._order.copies != "none"

    @property
    def whole_pictures(self) -> bool:
        """Whether pictures are needed in their full size."""
        return self.wanted or self._order.crops

    def free_name(self, name: str, suffix: str) -> str:
        """A name for a copy that no other copy has."""
        stem = Path(name).with_suffix("").as_posix()
        candidate, number = f"{stem}{suffix}", 2
        while candidate.lower() in self._taken:
            candidate, number = f"{stem}-{number}{suffix}", number + 1
        self._taken.add(candidate.lower())
        return candidate

    def drawn(
        self, pixels: NDArray[np.uint8], row: Row, numbers: Sequence[int] | None = None
    ) -> NDArray[np.uint8]:
        """A copy of a picture; ``numbers`` are those of the boxes' objects, 0 for none."""
        rows = row["detections"]
        boxes = np.array([each["box"] for each in rows], dtype=np.float64).reshape(-1, 4)
        if self._order.copies in ("blurred", "pixelated", "filled"):
            made = cover_boxes(pixels, boxes, self._order.copies)
        else:
            made = draw_boxes(pixels, boxes, *self._written_on(rows, numbers))
        return made

    def drawn_planes(self, frame: VideoFrame, row: Row, numbers: Sequence[int]) -> Planes | None:
        """A copy of a clip's frame as the clip holds it, where it can be drawn on so; else it is `drawn`."""
        if self._order.copies != "boxes" or self._order.beside:
            return None
        planes = planes_of(frame)
        if planes is not None:
            rows = row["detections"]
            draw_on_planes(planes, [each["box"] for each in rows], *self._written_on(rows, numbers))
        return planes

    def _written_on(self, rows: Sequence[Row], numbers: Sequence[int] | None) -> tuple[list[str], list[str]]:
        """Caption and colour of each box."""
        captions = [
            f"{f'{number} ' if number else ''}{each['class']} {each['score']:.2f}"
            for each, number in zip(rows, numbers or [0] * len(rows), strict=True)
        ]
        return captions, [self._colours[each["class"]] for each in rows]

    def beside(self, pixels: NDArray[np.uint8], made: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """The copy with the original on its left, where that is wanted."""
        return np.concatenate([pixels, made], axis=1) if self._order.beside else made

    def write(self, name: str, pixels: NDArray[np.uint8]) -> None:
        """Write a picture's copy."""
        self._keep(f"{ANNOTATED}/{name}", encode_jpeg(pixels))

    def crop(self, pixels: NDArray[np.uint8], row: Row, called: str) -> None:
        """Write every box of a picture as a picture, and into the row how these are called.

        ``called`` is the picture's own: what is done twice lands in the same place.
        """
        if not self._order.crops:
            return
        row["crops"] = []
        for number, each in enumerate(row["detections"], start=1):
            name = f"{called}-{number:03d}-{_plain(each['class'])}.png"
            x1, y1, x2, y2 = each["box"]
            left, top = int(np.floor(x1)), int(np.floor(y1))
            part = pixels[top : max(top + 1, int(np.ceil(y2))), left : max(left + 1, int(np.ceil(x2)))]
            kept = io.BytesIO()
            Image.fromarray(np.ascontiguousarray(part)).save(kept, "PNG")
            self._keep(f"{CROPS}/{name}", kept.getvalue())
            row["crops"].append(name)


def into_folder(out: Path) -> Callable[[str, bytes], None]:
    """Keeps files in a run's own folder."""

    def keep(name: str, content: bytes) -> None:
        write_bytes(out / name, content)

    return keep


def _plain(name: str) -> str:
    """A class's name as part of a file's: letters, digits and hyphens."""
    return "".join(letter if letter.isalnum() else "-" for letter in name)[:40]
