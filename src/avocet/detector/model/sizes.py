"""The detector sizes, and what their stages are made of."""

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


EXPANSION = 6
"""How many times wider an inverted residual block is inside (Sandler et al., 2018)."""


@dataclass(frozen=True)
class Unit:
    """A convolution, its normalisation and, if it is active, its activation."""

    inputs: int
    outputs: int
    kernel: int
    stride: int = 1
    active: bool = True

    @property
    def parameters(self) -> int:
        """Trainable ones: the convolution has no bias, the normalisation two values a channel."""
        return self.kernel**2 * self.inputs * self.outputs + 2 * self.outputs


@dataclass(frozen=True)
class Shortcut:
    """A residual block: halved by 1×1, restored by 3×3, added."""

    channels: int

    @property
    def outputs(self) -> int:
        return self.channels

    @property
    def parameters(self) -> int:
        half = self.channels // 2
        return Unit(self.channels, half, 1).parameters + Unit(half, self.channels, 3).parameters


@dataclass(frozen=True)
class Inverted:
    """An inverted residual block: widened, each channel convolved by itself, narrowed."""

    inputs: int
    outputs: int
    kernel: int
    stride: int = 1

    @property
    def parameters(self) -> int:
        wide = self.inputs * EXPANSION
        each = self.kernel**2 * wide + 2 * wide
        return Unit(self.inputs, wide, 1).parameters + each + Unit(wide, self.outputs, 1).parameters


Part = Unit | Shortcut | Inverted


@dataclass(frozen=True)
class Size:
    """A detector size.

    Attributes
    ----------
    name : str
    stem : int
        Channels after the first halving.
    stages : tuple of tuple of Part
        What each of the four further halvings is made of.
    neck : int
        Channels of the top-down path.
    """

    name: str
    stem: int
    stages: tuple[tuple[Part, ...], ...]
    neck: int

    @property
    def widths(self) -> tuple[int, ...]:
        """Channels after each stage."""
        return tuple(parts[-1].outputs for parts in self.stages)


def _residual(name: str, widths: Sequence[int], blocks: Sequence[int], neck: int) -> Size:
    """A size of halving convolutions, each followed by so many residual blocks."""
    stages: tuple[tuple[Part, ...], ...] = tuple(
        (Unit(before, after, 3, 2), *(Shortcut(after) for _ in range(count)))
        for before, after, count in zip(widths, widths[1:], blocks, strict=False)
    )
    return Size(name, widths[0], stages, neck)


GODWIT = Size(
    "godwit",
    16,
    (
        (Unit(16, 32, 3, 2), Shortcut(32)),
        (Unit(32, 64, 3, 2), Unit(64, 40, 1, active=False)),
        # From here on as the light form of EfficientNet (Tan and Le, 2019) has it between its strides 8 and 32. What
        # halves is larger by 2, with which it can stand where that network's kernels do, right of the middle.
        (
            Inverted(40, 80, 5, 2), Inverted(80, 80, 3), Inverted(80, 80, 3),
            Inverted(80, 112, 5), Inverted(112, 112, 5), Inverted(112, 112, 5),
        ),
        (Inverted(112, 192, 7, 2),),
    ),
    64,
)  # fmt: skip
"""Begins as Stint does; sees further up what a network for naming photographs learnt to see. It is not offered before
`scripts/photograph_weights.py` has made weights for it that are worth its time."""

SIZES = {
    size.name: size
    for size in (
        _residual("wren", (8, 24, 48, 96, 128), (0, 1, 2, 1), 48),
        _residual("stint", (16, 32, 64, 128, 256), (1, 2, 2, 1), 64),
        _residual("dunlin", (24, 48, 96, 192, 384), (1, 2, 3, 2), 96),
        _residual("curlew", (32, 64, 128, 256, 512), (1, 3, 4, 2), 128),
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
    stem = Unit(3, size.stem, 3, 2).parameters
    return stem + sum(part.parameters for parts in size.stages for part in parts)


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
            total += Unit(width, size.neck, 1).parameters
        if count:
            total += Unit(size.neck, size.neck, 3).parameters + (size.neck + 1) * count * (5 + classes)
    return total
