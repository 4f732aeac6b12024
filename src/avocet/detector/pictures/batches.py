"""Batches: pictures decoded once at training size, augmented, stacked, ready ahead of the network."""

import queue
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from avocet.core.raw.letterbox import Letterbox, letterbox
from avocet.detector.pictures.augmentation import Augmentation, Sample, collage, copy_in, place
from avocet.detector.pictures.colours import drawn_light, recolour
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.pictures.pixel_cache import PixelCache
from avocet.detector.pictures.resizing import MIDDLE_GREY, Colour, lay_in, scale_to
from avocet.detector.targets.loss import Truths

READY_AHEAD = 3
"""Batches that are prepared before they are asked for."""

USUAL_SCALE = 1.35
"""Pictures that are scaled up by no more than this are kept at their size in the input."""

AT_HAND = 4096
"""Pictures whose boxes are kept as they lie in the input, rather than worked out anew each time."""

MULTI_SCALE_REACH = 0.25
"""The side changes by up to this share, in steps of 32 pixels."""


@dataclass(frozen=True)
class Batch:
    """Pictures of one shape for the network.

    Attributes
    ----------
    pixels : (B, H, W, 3) ndarray of uint8
    truths : Truths
        In input pixels.
    pictures : tuple of int
        Which picture each began with.
    light : (B, 3) ndarray of float32, optional
        Factors for red, green and blue.
    """

    pixels: NDArray[np.uint8]
    truths: Truths
    pictures: tuple[int, ...] = ()
    light: NDArray[np.float32] | None = None


class TrainingPictures:
    """Augmented batches of a set of pictures.

    Every picture of a batch is drawn from a generator seeded by (seed, epoch, batch, place), so that an
    epoch is the same whether or not others ran before it, and a part of a batch is that part of the whole.

    Parameters
    ----------
    pictures : sequence of LabelledPicture
    side : int
        Longer side of the input in pixels.
    batch : int
    augmentation : Augmentation
    seed : int
    passes : int
        How often an epoch goes through the pictures.
    multi_scale : bool
        Change the side every epoch.
    folder : Path, optional
        Where the decoded pictures are kept; by default among the temporary files.
    padding : (red, green, blue)
        The colour around the pictures.
    """

    def __init__(
        self,
        pictures: Sequence[LabelledPicture],
        side: int,
        batch: int,
        augmentation: Augmentation,
        seed: int,
        passes: int = 1,
        multi_scale: bool = False,
        folder: Path | None = None,
        padding: Colour = MIDDLE_GREY,
    ) -> None:
        self._padding = padding
        self._pictures, self._batch, self._augmentation, self._seed = pictures, batch, augmentation, seed
        self._passes, self._side, self._multi_scale = passes, side, multi_scale
        self._boxes = [letterbox(picture.width, picture.height, side) for picture in pictures]
        self.width = max(box.input_width for box in self._boxes)
        self.height = max(box.input_height for box in self._boxes)
        self._cache = PixelCache(
            folder, "training.pixels", [self._shape(index) for index in range(len(pictures))]
        )
        self._at_hand: dict[int, tuple[Sample, float]] = {}
        self.seconds_preparing = 0.0
        """Processor time spent on preparing batches, of its own thread."""

    @property
    def steps(self) -> int:
        """Batches an epoch."""
        return -(-len(self._pictures) * self._passes // self._batch)

    def epoch(
        self, number: int, whole_pictures_only: bool = False, share: range | None = None
    ) -> Iterator[Batch]:
        """The batches of one epoch, prepared a few ahead in a thread of their own.

        Parameters
        ----------
        number : int
        whole_pictures_only : bool
            Without collages, as in the last part of a training.
        share : range, optional
            Places in each batch that are wanted; by default all.
        """
        order = self._order(number)
        ready: queue.Queue[Batch | BaseException | None] = queue.Queue(maxsize=READY_AHEAD)
        stopped = threading.Event()

        def prepare() -> None:
            try:
                for step in range(self.steps):
                    if stopped.is_set():
                        return
                    before = time.thread_time()
                    made = self.make_batch(order, number, step, whole_pictures_only, share=share)
                    self.seconds_preparing += time.thread_time() - before
                    ready.put(made)
                ready.put(None)
            except BaseException as error:
                ready.put(error)

        thread = threading.Thread(target=prepare, name="batches", daemon=True)
        thread.start()
        try:
            while (item := ready.get()) is not None:
                if isinstance(item, BaseException):
                    raise item
                yield item
        finally:
            stopped.set()
            while thread.is_alive():
                try:
                    ready.get(timeout=0.05)
                except queue.Empty:
                    continue

    def first_batch(self, on_picture: Callable[[int], None] = lambda done: None) -> Batch:
        """The first batch of all, as `epoch` would give it; told how many of its pictures are done."""
        return self.make_batch(self._order(0), 0, 0, False, on_picture)

    def close(self) -> None:
        """Remove the decoded pictures."""
        self._at_hand.clear()
        self._cache.close()

    def _order(self, number: int) -> NDArray[np.int64]:
        generator = np.random.default_rng([self._seed, number])
        order = np.concatenate([generator.permutation(len(self._pictures)) for _ in range(self._passes)])
        # The last batch is filled up from the front, so that every batch has the full size.
        return np.resize(order, self.steps * self._batch)

    def make_batch(
        self,
        order: NDArray[np.int64],
        number: int,
        step: int,
        whole_pictures_only: bool,
        on_picture: Callable[[int], None] = lambda done: None,
        share: range | None = None,
    ) -> Batch:
        """One batch of an epoch, or those places of it that are wanted, the same whenever it is made."""
        width, height = self._sides(number)
        samples, lights, chosen = [], [], []
        spots = range(self._batch) if share is None else share
        pixels = np.empty((len(spots), height, width, 3), dtype=np.uint8)
        for spot, canvas in zip(spots, pixels, strict=True):
            index = int(order[step * self._batch + spot])
            generator = np.random.default_rng([self._seed, number, step + 1, spot])
            samples.append(self._augmented(index, canvas, generator, whole_pictures_only))
            lights.append(drawn_light(self._augmentation.light, generator))
            chosen.append(index)
            on_picture(len(samples))
        return Batch(pixels, together(samples), tuple(chosen), np.stack(lights))

    def _sides(self, number: int) -> tuple[int, int]:
        """Width and height of the input in an epoch."""
        if not self._multi_scale:
            return self.width, self.height
        reach = max(1, round(self._side * MULTI_SCALE_REACH / 32))
        # A generator of its own, so that what is drawn for the batches stays what it is.
        change = 32 * int(np.random.default_rng([self._seed, 7, number]).integers(-reach, reach + 1))
        factor = (self._side + change) / self._side
        return max(32, 32 * round(self.width * factor / 32)), max(32, 32 * round(self.height * factor / 32))

    def _augmented(
        self, index: int, canvas: NDArray[np.uint8], generator: np.random.Generator, whole_pictures_only: bool
    ) -> Sample:
        """Fills the canvas."""
        augmentation, (height, width, _) = self._augmentation, canvas.shape
        four = not whole_pictures_only and generator.random() < augmentation.collage
        indices = [index, *self._others(3, generator)] if four else [index]
        samples, factors = self._samples(indices, width, generator)
        if four:
            made = collage(samples, width, height, factors, augmentation, generator, self._padding, canvas)
        else:
            made = place(
                samples[0], width, height, factors[0], augmentation, generator, self._padding, canvas
            )
        if augmentation.copy_in and generator.random() < augmentation.copy_in:
            donors = self._others(int(generator.integers(1, 4)), generator)
            made = copy_in(made, *self._samples(donors, width, generator), generator)
        coloured = recolour(made.pixels, augmentation, generator)
        if coloured is not canvas:
            canvas[...] = coloured
        return Sample(canvas, made.boxes, made.classes, made.ignored)

    def _others(self, count: int, generator: np.random.Generator) -> list[int]:
        return [int(each) for each in generator.integers(len(self._pictures), size=count)]

    def _samples(
        self, indices: Sequence[int], width: int, generator: np.random.Generator
    ) -> tuple[list[Sample], list[float]]:
        least, most = self._augmentation.scale_least, self._augmentation.scale_most
        samples, factors = [], []
        for each in indices:
            sample, factor = self._sample(each)
            samples.append(sample)
            factors.append(factor * width / self.width * generator.uniform(least, most))
        return samples, factors

    def _shape(self, index: int) -> tuple[int, int]:
        """Height and width at which a picture is kept: as in the input, never enlarged.

        Larger only where pictures are scaled up by more than usual, so that they stay sharp.
        """
        picture, box = self._pictures[index], self._boxes[index]
        zoom = max(1.0, self._augmentation.scale_most / USUAL_SCALE)
        if zoom * max(box.scale_x, box.scale_y) >= 1:
            return picture.height, picture.width
        return max(1, round(box.height * zoom)), max(1, round(box.width * zoom))

    def _sample(self, index: int) -> tuple[Sample, float]:
        """A picture at cache size, and the factor from there to its size in the input."""
        if index in self._at_hand:
            return self._at_hand[index]
        picture, box = self._pictures[index], self._boxes[index]
        height, width = self._shape(index)
        pixels = self._cache.get(index, lambda: scale_to(picture.read(), width, height))
        ratio = np.array([width / picture.width, height / picture.height] * 2)
        sample = Sample(pixels, picture.boxes * ratio, picture.classes, picture.ignored)
        if len(self._at_hand) < AT_HAND and self._cache.keeps(index):
            self._at_hand[index] = sample, box.width / width
        return sample, box.width / width


class HeldOutPictures:
    """Letterboxed batches of validation pictures, without augmentation, in a fixed order."""

    def __init__(
        self,
        pictures: Sequence[LabelledPicture],
        side: int,
        batch: int,
        folder: Path | None = None,
        padding: Colour = MIDDLE_GREY,
    ) -> None:
        self.pictures, self._padding = pictures, padding
        self.boxes = [letterbox(picture.width, picture.height, side) for picture in pictures]
        by_shape: dict[tuple[int, int], list[int]] = {}
        for index, box in enumerate(self.boxes):
            by_shape.setdefault((box.input_height, box.input_width), []).append(index)
        self._groups = [
            group[start : start + batch]
            for group in by_shape.values()
            for start in range(0, len(group), batch)
        ]
        self._cache = PixelCache(
            folder, "validation.pixels", [(box.input_height, box.input_width) for box in self.boxes]
        )

    @property
    def count(self) -> int:
        """How many batches they make."""
        return len(self._groups)

    def __iter__(self) -> Iterator[tuple[list[int], Batch]]:
        """Indices of the pictures and the batch they make."""
        return self.batches(range(self.count))

    def batches(self, wanted: range) -> Iterator[tuple[list[int], Batch]]:
        """Some of the batches, as they would come in all."""
        for group in self._groups[wanted.start : wanted.stop]:
            samples = [self._sample(index) for index in group]
            yield group, Batch(np.stack([each.pixels for each in samples]), together(samples), tuple(group))

    def letterbox_of(self, index: int) -> Letterbox:
        """How picture ``index`` lies in its input."""
        return self.boxes[index]

    def close(self) -> None:
        """Remove the decoded pictures."""
        self._cache.close()

    def _sample(self, index: int) -> Sample:
        picture, box = self.pictures[index], self.boxes[index]
        pixels = self._cache.get(index, lambda: lay_in(picture.read(), box, self._padding))
        return Sample(pixels, box.to_input(picture.boxes), picture.classes, picture.ignored)


def together(samples: Sequence[Sample]) -> Truths:
    """The boxes of a batch of samples, each with the number of its picture."""
    return Truths(
        pictures=np.repeat(np.arange(len(samples)), [len(sample.boxes) for sample in samples]),
        boxes=np.concatenate([sample.boxes for sample in samples]),
        classes=np.concatenate([sample.classes for sample in samples]),
        ignored=np.concatenate([sample.ignored for sample in samples]),
    )
