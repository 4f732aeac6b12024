"""The four detector sizes."""

from collections.abc import Sequence
from dataclasses import dataclass

from avocet.core.errors import InputError
from avocet.core.raw.levels import CELLS_ACROSS

STRIDES = (8, 16, 32)
"""Input pixels for one cell, level by level."""

ANCHORS_PER_LEVEL = 3
"""Of a level that is used, unless anchors are chosen by hand."""

MOST_ANCHORS = 30
"""Of all levels together."""

ALL_LEVELS = (ANCHORS_PER_LEVEL,) * len(STRIDES)
"""Anchors of each level where all are used."""

LEAST_INPUT, MOST_INPUT = 96, 2048
"""Input sides that can be trained."""

SIDES = (256, 320, 384, 512, 640, 768, 1024)
"""Input sides that figures and advice speak of: powers of two, and two steps between each."""

RESOLVED = CELLS_ACROSS * STRIDES[0]
"""Boxes whose shorter side has so many input pixels, two cells of the finest level, are well told apart."""

LEARNABLE = 8.0
"""Boxes with a shorter side under this many input pixels, one cell of the finest level, are hard to learn."""


@dataclass(frozen=True)
class Size:
    """A detector size.

    Attributes
    ----------
    name : str
    widths : tuple of int
        Channels after the stem and after each of the four halvings.
    blocks : tuple of int
        Residual blocks after each halving.
    neck : int
        Channels of the top-down path.
    """

    name: str
    widths: tuple[int, int, int, int, int]
    blocks: tuple[int, int, int, int]
    neck: int


SIZES = {
    size.name: size
    for size in (
        Size("wren", (8, 24, 48, 96, 128), (0, 1, 2, 1), 48),
        Size("stint", (16, 32, 64, 128, 256), (1, 2, 2, 1), 64),
        Size("dunlin", (24, 48, 96, 192, 384), (1, 2, 3, 2), 96),
        Size("curlew", (32, 64, 128, 256, 512), (1, 3, 4, 2), 128),
    )
}


def size_named(name: str) -> Size:
    """Look a size up by its name.

    Raises
    ------
    InputError
        If there is no such size.

    Examples
    --------
    >>> size_named("stint").neck
    64
    """
    try:
        return SIZES[name]
    except KeyError:
        raise InputError(f"there is no size {name!r}; choose one of {', '.join(SIZES)}") from None


def backbone_parameter_count(size: Size) -> int:
    """Trainable parameters of a size's backbone: the stem and the stages.

    Examples
    --------
    >>> backbone_parameter_count(size_named("stint"))
    932720
    """
    stem, *widths = size.widths
    total = _unit(3, stem, 3)
    for before, after, blocks in zip(size.widths, widths, size.blocks, strict=False):
        total += _unit(before, after, 3) + blocks * (
            _unit(after, after // 2, 1) + _unit(after // 2, after, 3)
        )
    return total


def parameter_count(size: Size, classes: int, anchors: Sequence[int] = ALL_LEVELS) -> int:
    """Trainable parameters of a size, counted from its widths without building the network.

    Parameters
    ----------
    size : Size
    classes : int
    anchors : sequence of int
        Of each level; one without any has no outputs.

    Examples
    --------
    >>> parameter_count(size_named("stint"), 5), parameter_count(size_named("stint"), 5, (3, 3, 0))
    (1078602, 1039660)
    """
    total = backbone_parameter_count(size)
    finest = min(level for level, count in enumerate(anchors) if count)
    for level, (width, count) in enumerate(zip(size.widths[-len(STRIDES) :], anchors, strict=True)):
        if level >= finest:
            total += _unit(width, size.neck, 1)
        if count:
            total += _unit(size.neck, size.neck, 3) + (size.neck + 1) * count * (5 + classes)
    return total


def _unit(inputs: int, outputs: int, kernel: int) -> int:
    """A convolution without bias, and its normalisation."""
    return kernel * kernel * inputs * outputs + 2 * outputs
