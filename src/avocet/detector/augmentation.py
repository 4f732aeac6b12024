"""Augmentation: training pictures scaled, shifted, flipped, lit and put together anew."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from avocet.core.boxes import Array, area, clip
from avocet.detector.letterbox import PADDING

Flips = Literal["none", "sideways", "all"]
FLIPS: tuple[Flips, ...] = ("none", "sideways", "all")

LEAST_VISIBLE = 0.35
"""A box of which less than this share stays in the picture is dropped."""

LEAST_SIDE = 2.0
"""A box narrower or lower than this many input pixels is dropped."""


@dataclass(frozen=True)
class Sample:
    """A picture and its boxes.

    Attributes
    ----------
    pixels : (H, W, 3) ndarray of uint8
    boxes : (N, 4) ndarray of float64
        In pixels of ``pixels``.
    classes : (N,) ndarray of int64
    ignored : (N,) ndarray of bool
    """

    pixels: NDArray[np.uint8]
    boxes: Array
    classes: NDArray[np.int64]
    ignored: NDArray[np.bool_]


@dataclass(frozen=True)
class Augmentation:
    """How training pictures are varied.

    Attributes
    ----------
    flips : {'none', 'sideways', 'all'}
        'all' also turns by quarter turns: right for scenes seen from above.
    scale : tuple of float
        Least and greatest size against the letterboxed picture.
    gain : float
        Brightness varies by this share up and down.
    collage : float
        Share of training pictures put together from four.
    """

    flips: Flips = "sideways"
    scale: tuple[float, float] = (0.75, 1.35)
    gain: float = 0.2
    collage: float = 0.5


def place(
    sample: Sample,
    width: int,
    height: int,
    factor: float,
    augmentation: Augmentation,
    generator: np.random.Generator,
) -> Sample:
    """Lay a picture into a canvas at a random place, after random flips.

    Parameters
    ----------
    sample : Sample
    width, height : int
        The canvas in pixels.
    factor : float
        Canvas pixels for one pixel of the sample.
    augmentation : Augmentation
    generator : numpy.random.Generator

    Returns
    -------
    Sample
        Boxes cut to the canvas; those cut down below `LEAST_VISIBLE` of their area are gone.
    """
    turned = _flip(sample, augmentation.flips, generator)
    tall, wide = turned.pixels.shape[:2]
    scaled_width, scaled_height = max(1, round(wide * factor)), max(1, round(tall * factor))
    # A picture larger than the canvas is cut anywhere; a smaller one lies anywhere in it.
    left = int(generator.integers(min(0, width - scaled_width), max(0, width - scaled_width) + 1))
    top = int(generator.integers(min(0, height - scaled_height), max(0, height - scaled_height) + 1))
    x1, y1 = max(0, left), max(0, top)
    x2, y2 = min(width, left + scaled_width), min(height, top + scaled_height)
    across, down = wide / scaled_width, tall / scaled_height
    source = ((x1 - left) * across, (y1 - top) * down, (x2 - left) * across, (y2 - top) * down)
    part = Image.fromarray(turned.pixels).resize((x2 - x1, y2 - y1), Image.Resampling.BILINEAR, box=source)
    canvas = np.full((height, width, 3), PADDING, dtype=np.uint8)
    canvas[y1:y2, x1:x2] = np.asarray(part)
    moved = turned.boxes / np.array([across, down] * 2) + np.array([left, top] * 2)
    return _cut(Sample(canvas, moved, turned.classes, turned.ignored), width, height)


def collage(
    samples: list[Sample],
    width: int,
    height: int,
    factors: list[float],
    augmentation: Augmentation,
    generator: np.random.Generator,
) -> Sample:
    """Four pictures around a random meeting point, each filling its corner as `place` would."""
    x = int(width * generator.uniform(0.3, 0.7))
    y = int(height * generator.uniform(0.3, 0.7))
    canvas = np.empty((height, width, 3), dtype=np.uint8)
    boxes, classes, ignored = [], [], []
    corners = ((0, 0, x, y), (x, 0, width, y), (0, y, x, height), (x, y, width, height))
    for sample, factor, (x1, y1, x2, y2) in zip(samples, factors, corners, strict=True):
        part = place(sample, x2 - x1, y2 - y1, factor, augmentation, generator)
        canvas[y1:y2, x1:x2] = part.pixels
        boxes.append(part.boxes + np.array([x1, y1, x1, y1]))
        classes.append(part.classes)
        ignored.append(part.ignored)
    return Sample(canvas, np.concatenate(boxes), np.concatenate(classes), np.concatenate(ignored))


def light(pixels: NDArray[np.uint8], gain: float, generator: np.random.Generator) -> NDArray[np.uint8]:
    """Brighten or darken a picture by a random factor, a little differently in each colour."""
    factors = generator.uniform(1 - gain, 1 + gain) * generator.uniform(1 - gain / 5, 1 + gain / 5, 3)
    table = np.clip(np.arange(256)[:, None] * factors[None], 0, 255).round().astype(np.uint8)
    return np.stack([table[pixels[..., channel], channel] for channel in range(3)], axis=-1)


def _flip(sample: Sample, flips: Flips, generator: np.random.Generator) -> Sample:
    pixels, boxes = sample.pixels, sample.boxes
    sideways, upside_down, transposed = generator.random(3) < 0.5
    if flips != "none" and sideways:
        pixels = pixels[:, ::-1]
        boxes = np.stack(
            [pixels.shape[1] - boxes[:, 2], boxes[:, 1], pixels.shape[1] - boxes[:, 0], boxes[:, 3]], axis=1
        )
    if flips == "all" and upside_down:
        pixels = pixels[::-1]
        boxes = np.stack(
            [boxes[:, 0], pixels.shape[0] - boxes[:, 3], boxes[:, 2], pixels.shape[0] - boxes[:, 1]], axis=1
        )
    if flips == "all" and transposed:
        pixels, boxes = pixels.transpose(1, 0, 2), boxes[:, [1, 0, 3, 2]]
    return Sample(np.ascontiguousarray(pixels), boxes, sample.classes, sample.ignored)


def _cut(sample: Sample, width: int, height: int) -> Sample:
    inside = clip(sample.boxes, width, height)
    sides = inside[:, 2:] - inside[:, :2]
    visible = area(inside) >= LEAST_VISIBLE * area(sample.boxes)
    keep = (sides >= LEAST_SIDE).all(axis=1) & (visible | sample.ignored)
    return Sample(sample.pixels, inside[keep], sample.classes[keep], sample.ignored[keep])
