"""The three detector sizes."""

from dataclasses import dataclass

from avocet.core.errors import InputError

STRIDES = (8, 16, 32)
"""Input pixels for one cell, level by level."""

ANCHORS_PER_LEVEL = 3


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


def parameter_count(size: Size, classes: int) -> int:
    """Trainable parameters of a size, counted from its widths without building the network.

    Examples
    --------
    >>> parameter_count(size_named("stint"), 5)
    1078602
    """

    def unit(inputs: int, outputs: int, kernel: int) -> int:
        return kernel * kernel * inputs * outputs + 2 * outputs

    stem, *widths = size.widths
    total = unit(3, stem, 3)
    for before, after, blocks in zip(size.widths, widths, size.blocks, strict=False):
        total += unit(before, after, 3) + blocks * (unit(after, after // 2, 1) + unit(after // 2, after, 3))
    outputs = ANCHORS_PER_LEVEL * (5 + classes)
    for width in widths[-len(STRIDES) :]:
        total += unit(width, size.neck, 1) + unit(size.neck, size.neck, 3) + (size.neck + 1) * outputs
    return total
