"""Augmentation: training pictures scaled, shifted, turned, flipped and put together anew."""

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Literal, TypeVar, get_args

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic.dataclasses import dataclass as described

from avocet.core.boxes import Array, area, clip
from avocet.core.errors import InputError
from avocet.detector.pictures.resizing import MIDDLE_GREY, Colour, fill, scale_by
from avocet.detector.training.field import setting

Flips = Literal["none", "sideways", "all"]
FLIPS: tuple[Flips, ...] = get_args(Flips)

LEAST_VISIBLE = 0.35
"""A box of which less than this share stays in the picture is dropped."""

CUT_AGAIN = 0.85
"""An object that the picture's own edge cuts already is neither learnt nor unlearnt where less than this share of
what was seen of it stays: how much that is of all of it, and so whether a person would still mark it, nobody knows."""

EDGE = 0.75
"""A box so many pixels from an edge of the picture reaches it."""

LEAST_SIDE = 2.0
"""A box narrower or lower than this many input pixels is dropped."""

PLACES_TRIED = 8
"""Places that are tried for an object copied in."""

MOST_COVERED = 0.2
"""An object copied in may cover this share of another one, or be covered by it."""

N = TypeVar("N", float, Array)


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

    @cached_property
    def at_edge(self) -> NDArray[np.bool_]:
        """(N,) boxes that reach an edge of the picture, behind which most of the object may lie.

        Not those that fill half of the picture up to there: of them most is seen.
        """
        size = np.array(self.pixels.shape[1::-1], dtype=np.float64)
        low, high = self.boxes[:, :2], self.boxes[:, 2:]
        reaching = (low < EDGE) | (high > size - EDGE)
        return np.asarray((reaching & (high - low < size / 2)).any(axis=1))


@described(frozen=True)
class Augmentation:
    """How training pictures are varied, each with its strength; 0 leaves it out.

    Each field is declared once, with its bounds and the sentence that explains it: the page, the
    command line and the described interface all take them from here.

    Raises
    ------
    pydantic.ValidationError
        If a value lies out of bounds; `avocet.detector.training.settings.settings_from` says it in words.
    """

    flips: Flips = setting(
        "sideways",
        "Flips",
        "'all' also turns by quarter turns: right for scenes seen from above",
        choices={"none": "None", "sideways": "Left and right", "all": "Every way, and quarter turns"},
    )
    scale_least: float = setting(0.75, "Smallest", "least size against the letterboxed picture", 0.1, 1, 0.05)
    scale_most: float = setting(1.35, "Largest", "greatest size against the letterboxed picture", 1, 4, 0.05)
    shift: float = setting(
        1.0,
        "Shift",
        "share of the free room within which a picture is moved; 0 keeps it in the middle",
        0,
        1,
        0.1,
    )
    turn: float = setting(0.0, "Turn", "turned by up to so many degrees either way", 0, 45, 1, unit="°")
    light: float = setting(
        0.2,
        "Brightness",
        "brightness varies by this share up and down, the colours a fifth of it against each other",
        0,
        0.9,
        0.05,
    )
    hue: float = setting(
        0.0, "Hue", "colours are turned by up to so many degrees of the colour circle", 0, 180, 2, unit="°"
    )
    saturation: float = setting(
        0.0, "Saturation", "colourfulness varies by this share up and down", 0, 1, 0.05
    )
    blur: float = setting(
        0.0, "Blur", "greatest radius of a Gaussian blur, given to half of the pictures", 0, 5, 0.1, unit="px"
    )
    collage: float = setting(0.5, "Collage", "share of training pictures put together from four", 0, 1, 0.1)
    copy_in: float = setting(
        0.0,
        "Copied objects",
        "share of training pictures into which up to three objects of others are copied",
        0,
        1,
        0.1,
    )

    def __post_init__(self) -> None:
        if self.scale_least > self.scale_most:
            raise InputError(f"smallest {self.scale_least} is above largest {self.scale_most}")


def place(
    sample: Sample,
    width: int,
    height: int,
    factor: float,
    augmentation: Augmentation,
    generator: np.random.Generator,
    padding: Colour = MIDDLE_GREY,
    canvas: NDArray[np.uint8] | None = None,
) -> Sample:
    """Lay a picture into a canvas at a random place, after random flips and a random turn.

    Parameters
    ----------
    sample : Sample
    width, height : int
        The canvas in pixels.
    factor : float
        Canvas pixels for one pixel of the sample.
    augmentation : Augmentation
    generator : numpy.random.Generator
    padding : (red, green, blue)
        The colour of the canvas where no picture lies.
    canvas : (height, width, 3) ndarray of uint8, optional
        Where to; by default a new one.

    Returns
    -------
    Sample
        Boxes cut to the canvas; those cut down below `LEAST_VISIBLE` of their area are gone. Those that the
        picture's edge cut already are ignored where they are cut once more.
    """
    canvas = np.empty((height, width, 3), dtype=np.uint8) if canvas is None else canvas
    laid, at_edge = _lay(sample, factor, augmentation, generator, padding, canvas)
    return _cut(laid, np.array([width, height], dtype=np.float64), at_edge)


def _lay(
    sample: Sample,
    factor: float,
    augmentation: Augmentation,
    generator: np.random.Generator,
    padding: Colour,
    canvas: NDArray[np.uint8],
) -> tuple[Sample, NDArray[np.bool_]]:
    """Fill a canvas; its boxes are not cut yet, and which of them the picture's own edge cuts already."""
    height, width = canvas.shape[:2]
    flip = _drawn_flip(augmentation.flips, generator)
    if augmentation.turn:
        sample = turn(sample, float(generator.uniform(-augmentation.turn, augmentation.turn)), padding)
    tall, wide = sample.pixels.shape[:2]
    # A little more than a pixel, as products of floats may fall short of one.
    factor = max(factor, (1 + 1e-9) / min(tall, wide))
    across, down = (tall, wide) if flip.transposed else (wide, tall)
    left = _moved(width - max(1, round(across * factor)), augmentation.shift, generator)
    top = _moved(height - max(1, round(down * factor)), augmentation.shift, generator)
    # Only what will be seen is scaled, and before it is flipped: that is less to move about.
    seen = (-left / factor, -top / factor, (width - left) / factor, (height - top) / factor)
    x1, y1, x2, y2 = _whole_pixels(flip.back(*seen, across, down), math.ceil(1 / factor), wide, tall)
    scaled = scale_by(sample.pixels[y1:y2, x1:x2], factor)
    high, broad = scaled.shape[:2]
    # Where the part begins on the canvas: in whole pixels, and its boxes move along.
    begins_x, begins_y, *_ = flip.forth(x1, y1, x2, y2, across, down)
    x, y = round(left + begins_x * factor), round(top + begins_y * factor)
    _paste(canvas, flip.picture(scaled), x, y, padding)
    lows_x, lows_y, highs_x, highs_y = ((sample.boxes - np.array([x1, y1, x1, y1])) * factor).T
    ends = (high, broad) if flip.transposed else (broad, high)
    boxes = np.array(flip.forth(lows_x, lows_y, highs_x, highs_y, *ends)).T + np.array([x, y, x, y])
    return Sample(canvas, boxes, sample.classes, sample.ignored), sample.at_edge


def _whole_pixels(
    region: tuple[float, float, float, float], margin: int, width: int, height: int
) -> tuple[int, int, int, int]:
    """A region made up to whole pixels of a picture, and so many more on every side."""
    x1, y1, x2, y2 = region
    return (
        max(0, math.floor(x1) - margin),
        max(0, math.floor(y1) - margin),
        min(width, math.ceil(x2) + margin),
        min(height, math.ceil(y2) + margin),
    )


def _paste(canvas: NDArray[np.uint8], pixels: NDArray[np.uint8], x: int, y: int, padding: Colour) -> None:
    """Lay a picture into a canvas with its corner at a place that may lie outside; around it goes the padding."""
    height, width = canvas.shape[:2]
    part = pixels[max(0, -y) : height - y, max(0, -x) : width - x]
    if part.shape != canvas.shape:
        fill(canvas, padding)
    under = canvas[max(0, y) : max(0, y) + part.shape[0], max(0, x) : max(0, x) + part.shape[1]]
    if part.strides[1] == part.shape[2]:
        under[...] = part
        return
    # A flipped picture moves eight times as quick colour by colour.
    for colour in range(part.shape[2]):
        under[..., colour] = part[..., colour]


def collage(
    samples: list[Sample],
    width: int,
    height: int,
    factors: list[float],
    augmentation: Augmentation,
    generator: np.random.Generator,
    padding: Colour = MIDDLE_GREY,
    canvas: NDArray[np.uint8] | None = None,
) -> Sample:
    """Four pictures around a random meeting point, each filling its corner as `place` would, in a canvas that is given or a new one."""
    x = int(width * generator.uniform(0.3, 0.7))
    y = int(height * generator.uniform(0.3, 0.7))
    canvas = np.empty((height, width, 3), dtype=np.uint8) if canvas is None else canvas
    corners = np.array([[0, 0, x, y], [x, 0, width, y], [0, y, x, height], [x, y, width, height]])
    parts, at_edge = [], []
    for sample, factor, (x1, y1, x2, y2) in zip(samples, factors, corners.tolist(), strict=True):
        part, reaching = _lay(sample, factor, augmentation, generator, padding, canvas[y1:y2, x1:x2])
        parts.append(part)
        at_edge.append(reaching)
    laid = Sample(
        canvas,
        np.concatenate([part.boxes for part in parts]),
        np.concatenate([part.classes for part in parts]),
        np.concatenate([part.ignored for part in parts]),
    )
    # All four at once, each box by its own corner.
    own = np.repeat(corners.astype(np.float64), [len(part.boxes) for part in parts], axis=0)
    begin = own[:, :2]
    return _cut(laid, own[:, 2:] - begin, np.concatenate(at_edge), begin)


def turn(sample: Sample, degrees: float, padding: Colour = MIDDLE_GREY) -> Sample:
    """Turn a picture about its middle, without making it larger.

    A box becomes that of the turned ellipse within it: exact for round and oval objects, a
    little tight for those that fill the corners of their box, never as loose as the box around
    the turned corners.

    Parameters
    ----------
    sample : Sample
    degrees : float
        Counter-clockwise.
    padding : (red, green, blue)
        The colour of the corners that it leaves empty.

    Examples
    --------
    >>> pixels = np.zeros((40, 40, 3), np.uint8)
    >>> flat = Sample(pixels, np.array([[10.0, 15, 30, 25]]), np.zeros(1, int), np.zeros(1, bool))
    >>> turn(flat, 90).boxes.round(6).tolist()
    [[15.0, 10.0, 25.0, 30.0]]
    """
    height, width = sample.pixels.shape[:2]
    angle = np.deg2rad(degrees)
    cosine, sine = np.cos(angle), np.sin(angle)
    middle = np.array([width / 2, height / 2])
    centres = (sample.boxes[:, :2] + sample.boxes[:, 2:]) / 2 - middle
    halves = (sample.boxes[:, 2:] - sample.boxes[:, :2]) / 2
    turned = np.stack(
        [centres[:, 0] * cosine + centres[:, 1] * sine, -centres[:, 0] * sine + centres[:, 1] * cosine],
        axis=1,
    )
    reach = np.stack(
        [
            np.hypot(halves[:, 0] * cosine, halves[:, 1] * sine),
            np.hypot(halves[:, 0] * sine, halves[:, 1] * cosine),
        ],
        axis=1,
    )
    picture = Image.fromarray(sample.pixels).rotate(degrees, Image.Resampling.BILINEAR, fillcolor=padding)
    boxes = np.concatenate([turned + middle - reach, turned + middle + reach], axis=1)
    turned_sample = Sample(np.asarray(picture), boxes, sample.classes, sample.ignored)
    return _cut(turned_sample, 2 * middle, sample.at_edge)


def copy_in(
    sample: Sample, donors: list[Sample], factors: list[float], generator: np.random.Generator
) -> Sample:
    """Copy one object of each donor into a picture, where it covers little of what is there.

    Parameters
    ----------
    sample : Sample
        At its size in the input.
    donors : list of Sample
    factors : list of float
        Canvas pixels for one pixel of each donor.
    generator : numpy.random.Generator

    Returns
    -------
    Sample
        With up to one box more a donor. An object that finds no room in `PLACES_TRIED` places is
        left out.
    """
    height, width = sample.pixels.shape[:2]
    pixels = sample.pixels.copy()
    boxes, classes, ignored = [*sample.boxes], [*sample.classes], [*sample.ignored]
    for donor, factor in zip(donors, factors, strict=True):
        inside = clip(donor.boxes, donor.pixels.shape[1], donor.pixels.shape[0]).round().astype(int)
        usable = np.flatnonzero(
            ~donor.ignored & ~donor.at_edge & ((inside[:, 2:] - inside[:, :2]).min(axis=1, initial=9999) >= 4)
        )
        if not len(usable):
            continue
        chosen = int(generator.choice(usable))
        x1, y1, x2, y2 = inside[chosen]
        size = max(2, round((x2 - x1) * factor)), max(2, round((y2 - y1) * factor))
        if size[0] >= width or size[1] >= height:
            continue
        crop = np.asarray(Image.fromarray(donor.pixels[y1:y2, x1:x2]).resize(size, Image.Resampling.BILINEAR))
        if generator.random() < 0.5:
            crop = crop[:, ::-1]
        place_found = _free_place(np.array(boxes).reshape(-1, 4), size, width, height, generator)
        if place_found is None:
            continue
        left, top = place_found
        under = pixels[top : top + size[1], left : left + size[0]]
        edge = _soft_edge(*size)[..., None]
        under[...] = (crop * edge + under * (1 - edge)).astype(np.uint8)
        boxes.append(np.array([left, top, left + size[0], top + size[1]], dtype=np.float64))
        classes.append(donor.classes[chosen])
        ignored.append(False)
    return Sample(
        pixels,
        np.array(boxes, dtype=np.float64).reshape(-1, 4),
        np.array(classes, dtype=np.int64),
        np.array(ignored, dtype=bool),
    )


def _free_place(
    boxes: Array, size: tuple[int, int], width: int, height: int, generator: np.random.Generator
) -> tuple[int, int] | None:
    for _ in range(PLACES_TRIED):
        left, top = int(generator.integers(width - size[0])), int(generator.integers(height - size[1]))
        low = np.maximum(boxes[:, :2], (left, top))
        high = np.minimum(boxes[:, 2:], (left + size[0], top + size[1]))
        covered = np.clip(high - low, 0, None).prod(axis=1)
        least = np.minimum(area(boxes), size[0] * size[1])
        if not (covered > MOST_COVERED * least).any():
            return left, top
    return None


def _soft_edge(width: int, height: int) -> NDArray[np.float64]:
    """1 inside, falling to a half within two pixels of the rim, so that no cut shows."""
    ramps = [np.minimum(np.arange(n) + 1, np.arange(n)[::-1] + 1) for n in (width, height)]
    rim = np.minimum(ramps[0][None, :], ramps[1][:, None])
    return np.asarray(np.clip(0.25 + 0.25 * rim, 0, 1))


def _moved(room: int, shift: float, generator: np.random.Generator) -> int:
    """An offset: a picture larger than the canvas is cut anywhere, a smaller one lies anywhere in it."""
    anywhere = int(generator.integers(min(0, room), max(0, room) + 1))
    return anywhere if shift == 1 else round(room / 2 + shift * (anywhere - room / 2))


@dataclass(frozen=True)
class _Flip:
    """Both axes exchanged, then mirrored sideways and upside down."""

    transposed: bool
    sideways: bool
    upside_down: bool

    def picture(self, pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """A flipped picture, as a view."""
        pixels = pixels.transpose(1, 0, 2) if self.transposed else pixels
        pixels = pixels[:, ::-1] if self.sideways else pixels
        return pixels[::-1] if self.upside_down else pixels

    def forth(self, x1: N, y1: N, x2: N, y2: N, width: float, height: float) -> tuple[N, N, N, N]:
        """Flipped boxes, each of their columns a number or an array; width and height are those of the flipped picture."""
        if self.transposed:
            x1, y1, x2, y2 = y1, x1, y2, x2
        return self._mirrored(x1, y1, x2, y2, width, height)

    def back(self, x1: N, y1: N, x2: N, y2: N, width: float, height: float) -> tuple[N, N, N, N]:
        """Where flipped boxes come from."""
        x1, y1, x2, y2 = self._mirrored(x1, y1, x2, y2, width, height)
        return (y1, x1, y2, x2) if self.transposed else (x1, y1, x2, y2)

    def _mirrored(self, x1: N, y1: N, x2: N, y2: N, width: float, height: float) -> tuple[N, N, N, N]:
        if self.sideways:
            x1, x2 = width - x2, width - x1
        if self.upside_down:
            y1, y2 = height - y2, height - y1
        return x1, y1, x2, y2


def _drawn_flip(flips: Flips, generator: np.random.Generator) -> _Flip:
    sideways, upside_down, transposed = (bool(each) for each in generator.random(3) < 0.5)
    every_way = flips == "all"
    return _Flip(every_way and transposed, flips != "none" and sideways, every_way and upside_down)


def _cut(sample: Sample, size: Array, cut_before: NDArray[np.bool_], begin: Array | None = None) -> Sample:
    """Boxes cut to what they lie in, (2,) or (N, 2) wide and high, then moved to where that begins."""
    boxes = sample.boxes
    # Done for every picture of a batch: plain products, columns one by one.
    inside = np.minimum(np.maximum(boxes, 0), np.concatenate([size, size], axis=-1))
    wide, high = inside[:, 2] - inside[:, 0], inside[:, 3] - inside[:, 1]
    whole = (boxes[:, 2] - boxes[:, 0]) * (boxes[:, 3] - boxes[:, 1])
    ignored = sample.ignored | (cut_before & (wide * high < CUT_AGAIN * whole))
    visible = wide * high >= LEAST_VISIBLE * whole
    keep = (wide >= LEAST_SIDE) & (high >= LEAST_SIDE) & (visible | ignored)
    if begin is not None:
        inside = inside + np.concatenate([begin, begin], axis=-1)
    return Sample(sample.pixels, inside[keep], sample.classes[keep], ignored[keep])
