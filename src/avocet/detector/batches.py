"""Batches: pictures decoded once at training size, augmented, stacked, ready ahead of the network."""

import queue
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.letterbox import Letterbox, letterbox
from avocet.detector.augmentation import Augmentation, Sample, collage, light, place
from avocet.detector.labelled import LabelledPicture
from avocet.detector.letterbox import lay_in, scale_to
from avocet.detector.loss import Truths

CACHE_BYTES = 3_000_000_000
"""Decoded pictures beyond this much memory are decoded anew each time."""


@dataclass(frozen=True)
class Batch:
    """(B, H, W, 3) uint8 pixels and their truths in input pixels."""

    pixels: NDArray[np.uint8]
    truths: Truths


class TrainingPictures:
    """Augmented batches of a set of pictures.

    Every batch is drawn from a generator seeded by (seed, epoch, batch), so that an epoch is the
    same whether or not others ran before it.

    Parameters
    ----------
    pictures : sequence of LabelledPicture
    side : int
        Longer side of the input in pixels.
    batch : int
    augmentation : Augmentation
    seed : int
    """

    def __init__(
        self,
        pictures: Sequence[LabelledPicture],
        side: int,
        batch: int,
        augmentation: Augmentation,
        seed: int,
    ) -> None:
        self._pictures, self._batch, self._augmentation, self._seed = pictures, batch, augmentation, seed
        boxes = [letterbox(picture.width, picture.height, side) for picture in pictures]
        self.width = max(box.input_width for box in boxes)
        self.height = max(box.input_height for box in boxes)
        self._boxes = boxes
        self._cache: dict[int, NDArray[np.uint8]] = {}
        self._cached_bytes = 0

    @property
    def steps(self) -> int:
        """Batches an epoch."""
        return -(-len(self._pictures) // self._batch)

    def epoch(self, number: int, whole_pictures_only: bool = False) -> Iterator[Batch]:
        """The batches of one epoch, prepared a few ahead in a thread of their own.

        Parameters
        ----------
        number : int
        whole_pictures_only : bool
            Without collages, as in the last part of a training.
        """
        order = np.random.default_rng([self._seed, number]).permutation(len(self._pictures))
        # The last batch is filled up from the front, so that every batch has the full size.
        order = np.resize(order, self.steps * self._batch)
        ready: queue.Queue[Batch | BaseException | None] = queue.Queue(maxsize=3)
        stopped = threading.Event()

        def prepare() -> None:
            try:
                for step in range(self.steps):
                    if stopped.is_set():
                        return
                    chosen = order[step * self._batch : (step + 1) * self._batch]
                    ready.put(self._make_batch(chosen, [self._seed, number, step + 1], whole_pictures_only))
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

    def _make_batch(self, chosen: NDArray[np.int64], seed: list[int], whole_pictures_only: bool) -> Batch:
        generator = np.random.default_rng(seed)
        samples = [self._augmented(int(index), generator, whole_pictures_only) for index in chosen]
        return stack(samples)

    def _augmented(self, index: int, generator: np.random.Generator, whole_pictures_only: bool) -> Sample:
        together = not whole_pictures_only and generator.random() < self._augmentation.collage
        indices = [index, *generator.integers(len(self._pictures), size=3).tolist()] if together else [index]
        samples, factors = [], []
        for each in indices:
            sample, factor = self._sample(each)
            samples.append(sample)
            factors.append(factor * generator.uniform(*self._augmentation.scale))
        if together:
            made = collage(samples, self.width, self.height, factors, self._augmentation, generator)
        else:
            made = place(samples[0], self.width, self.height, factors[0], self._augmentation, generator)
        return Sample(
            light(made.pixels, self._augmentation.gain, generator), made.boxes, made.classes, made.ignored
        )

    def _sample(self, index: int) -> tuple[Sample, float]:
        """A picture at cache size, and the factor from there to its size in the input."""
        picture, box = self._pictures[index], self._boxes[index]
        pixels = self._cache.get(index)
        if pixels is None:
            # A little larger than the input, so that pictures scaled up stay sharp; never enlarged.
            zoom = min(self._augmentation.scale[1] / 1.1, 1 / max(box.scale_x, box.scale_y))
            pixels = picture.read()
            if zoom * max(box.scale_x, box.scale_y) < 1:
                pixels = scale_to(pixels, max(1, round(box.width * zoom)), max(1, round(box.height * zoom)))
            if self._cached_bytes + pixels.nbytes <= CACHE_BYTES:
                self._cache[index] = pixels
                self._cached_bytes += pixels.nbytes
        ratio = np.array([pixels.shape[1] / picture.width, pixels.shape[0] / picture.height] * 2)
        sample = Sample(pixels, picture.boxes * ratio, picture.classes, picture.ignored)
        return sample, box.width / pixels.shape[1]


class HeldOutPictures:
    """Letterboxed batches of validation pictures, without augmentation, in a fixed order."""

    def __init__(self, pictures: Sequence[LabelledPicture], side: int, batch: int) -> None:
        self.pictures = pictures
        self.boxes = [letterbox(picture.width, picture.height, side) for picture in pictures]
        by_shape: dict[tuple[int, int], list[int]] = {}
        for index, box in enumerate(self.boxes):
            by_shape.setdefault((box.input_height, box.input_width), []).append(index)
        self._groups = [
            group[start : start + batch]
            for group in by_shape.values()
            for start in range(0, len(group), batch)
        ]
        self._cache: dict[int, Batch] = {}

    def __iter__(self) -> Iterator[tuple[list[int], Batch]]:
        """Indices of the pictures and the batch they make."""
        for number, group in enumerate(self._groups):
            batch = self._cache.get(number)
            if batch is None:
                batch = stack([self._sample(index) for index in group])
                if sum(held.pixels.nbytes for held in self._cache.values()) < CACHE_BYTES / 3:
                    self._cache[number] = batch
            yield group, batch

    def letterbox_of(self, index: int) -> Letterbox:
        """How picture ``index`` lies in its input."""
        return self.boxes[index]

    def _sample(self, index: int) -> Sample:
        picture, box = self.pictures[index], self.boxes[index]
        return Sample(
            lay_in(picture.read(), box), box.to_input(picture.boxes), picture.classes, picture.ignored
        )


def stack(samples: Sequence[Sample]) -> Batch:
    """Put samples of one shape together."""
    counts = [len(sample.boxes) for sample in samples]
    return Batch(
        pixels=np.stack([sample.pixels for sample in samples]),
        truths=Truths(
            pictures=np.repeat(np.arange(len(samples)), counts),
            boxes=np.concatenate([sample.boxes for sample in samples]),
            classes=np.concatenate([sample.classes for sample in samples]),
            ignored=np.concatenate([sample.ignored for sample in samples]),
        ),
    )
