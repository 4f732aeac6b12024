"""Pictures of more than 8 bits: which of their values is white.

Networks and screens take 8 bits. A file may say how many of its bits mean something; where it does not, one picture
alone tells little, as a dark one of 12 bits looks like a bright one of 10. So it is judged over all pictures that belong
together, once for all of them.
"""

import io
import re
import struct
import sys
from collections.abc import Iterable
from contextlib import nullcontext
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray
from PIL.Image import Image as Picture
from PIL.Image import merge
from PIL.ImageFile import ImageFile

DEEP_SUFFIXES = frozenset({".png", ".tif", ".tiff"})
"""Of the formats that are read, those that may have more than 8 bits."""

WHITES = (255.0, 1023.0, 4095.0, 16383.0, 65535.0)
"""What is white in pictures of 8, 10, 12, 14 and 16 bits, which are all kept in 16."""

NEARLY_ALL = 99.9
"""Per cent of the values that are not above white where a file does not say what it is: a hot pixel does not decide."""

LARGEST_WHITE = 2.0**32 - 1
"""The largest value of 32 bits."""

GREY_AND_ALPHA = "LA;16B"
DEEP_COLOURS = re.compile(rf"(RGB|RGBX|RGBA);16[BLN]|{GREY_AND_ALPHA}")
"""How Pillow calls the layouts of 16 bits a channel of which it keeps 8."""

MAX_SAMPLE, SMAX_SAMPLE = 281, 341
"""TIFF tags of the largest value (TIFF 6.0)."""


@dataclass(frozen=True)
class Depth:
    """What a picture of more than 8 bits tells of its white.

    Attributes
    ----------
    declared : float, optional
        What its file says is white.
    least : float, optional
        Where its file says nothing, the least usual white that nearly all of its values fit into.
    """

    declared: float | None = None
    least: float | None = None


@dataclass(frozen=True)
class Loaded:
    """A picture whose pixels are in memory.

    Attributes
    ----------
    picture : PIL.Image.Image
    is_deep : bool
        Whether it has more than 8 bits a channel.
    low : PIL.Image.Image, optional
        Of colours of 16 bits a channel the lower 8 bits of each value: ``picture`` has only the upper 8.
    """

    picture: Picture
    is_deep: bool = False
    low: Picture | None = None

    def values(self, top: int, bottom: int) -> NDArray[Any]:
        """(rows, W), or (rows, W, 3 or 4) with colours, all bits of some rows of a deep picture."""
        box = (0, top, self.picture.width, bottom)
        high = np.asarray(self.picture.crop(box))
        if self.low is None:
            return high
        return (high.astype(np.uint16) << 8) | np.asarray(self.low.crop(box))

    def thinned(self) -> NDArray[Any]:
        """Some of the values, about a million, without how opaque they are: of very many a few say the same."""
        width, height = self.picture.size
        step = max(1, round((width * height / 1_000_000) ** 0.5))
        # Row by row, so that of a large picture there is no further copy.
        rows = [self.values(top, top + 1)[:, ::step] for top in range(0, height, step)]
        values = np.concatenate(rows)
        return values[..., :3] if values.ndim == 3 else values


def is_deep(opened: ImageFile) -> bool:
    """Whether a picture whose pixels are not loaded yet has more than 8 bits a channel; its header says so."""
    return opened.mode.startswith("I;16") or opened.mode in ("I", "F") or has_deep_colours(opened)


def has_deep_colours(opened: ImageFile) -> bool:
    """Whether a picture whose pixels are not loaded yet has colours, or grey and transparency, of 16 bits a channel."""
    layouts = [_layout(each.args) for each in opened.tile]
    return bool(layouts) and all(DEEP_COLOURS.fullmatch(each) for each in layouts)


def load_low(opened: ImageFile) -> Picture:
    """Load the lower 8 bits of values of 16 bits, of a picture for which `has_deep_colours` holds.

    Pillow keeps the upper byte of each value. Told that the bytes come in the other order, it keeps the lower one.
    """
    grey = any(_layout(each.args) == GREY_AND_ALPHA for each in opened.tile)
    if grey:
        # There is no other order of these; but they are as long as four channels of 8 bits.
        opened.tile = [each._replace(args="RGBA") for each in opened.tile]
        opened.load()
        _, low, _, alpha = opened.split()
        return merge("RGBA", (low, low, low, alpha))
    opened.tile = [each._replace(args=_turned(each.args)) for each in opened.tile]
    opened.load()
    return opened


def _layout(arguments: Any) -> str:
    """How a decoder is told that values lie in a file, such as ``RGB;16B``."""
    return str(arguments[0] if isinstance(arguments, tuple) else arguments)


def _turned(arguments: Any) -> Any:
    """A decoder's arguments with the other order of bytes."""
    layout = _layout(arguments)
    order = {"B": "L", "L": "B", "N": "B" if sys.byteorder == "little" else "L"}[layout[-1]]
    turned = layout[:-1] + order
    return (turned, *arguments[1:]) if isinstance(arguments, tuple) else turned


def white_is_in_header(opened: ImageFile, source: Path | BinaryIO) -> bool:
    """Whether to know what a deep picture's file says is white its values need not be looked at."""
    return opened.format != "PNG" or meaning_bits(source) is None


def depth_of(loaded: Loaded, source: Path | BinaryIO, measured: bool = True) -> Depth | None:
    """What a picture tells of its white; None where it has 8 bits.

    Parameters
    ----------
    loaded : Loaded
    source : Path or binary file
        What it was opened from.
    measured : bool
        Whether to judge by the values of one whose file does not say what is white.

    Returns
    -------
    Depth or None
    """
    if not loaded.is_deep:
        return None
    declared = declared_by_tags(loaded.picture)
    bits = meaning_bits(source) if loaded.picture.format == "PNG" else None
    if declared is not None or (bits is None and not measured):
        return Depth(declared=declared)
    values = loaded.thinned()
    if bits is not None:
        return Depth(declared=WHITES[-1] if is_scaled(values, bits) else float(2**bits - 1))
    return Depth(least=white_of(values, loaded.picture.mode == "F"))


def is_scaled(values: NDArray[Any], bits: int) -> bool:
    """Whether values of fewer bits were scaled to all 16, as the PNG standard wants it (11.3.2.7), or kept as they were.

    Scaled ones are larger than they could be otherwise or, where all are dark, multiples of a power of two, or one more.

    Parameters
    ----------
    values : ndarray of unsigned integers
    bits : int
        How many bits mean something.

    Returns
    -------
    bool

    Examples
    --------
    >>> ramp = np.arange(4096)
    >>> is_scaled(ramp, 12), is_scaled(ramp << 4, 12), is_scaled((ramp << 4 | ramp >> 8)[:200], 12)
    (False, True, True)
    """
    step = 2 ** (16 - bits)
    return bool((values >= 2**bits).any() or (step > 2 and (values % step <= 1).all()))


def white_of(values: NDArray[Any], floating: bool = False) -> float:
    """The least usual white that nearly all values fit into.

    Parameters
    ----------
    values : ndarray
    floating : bool
        Whether they are floating-point numbers, whose white is often 1.

    Returns
    -------
    float

    Examples
    --------
    >>> ramp = np.arange(900, dtype=np.uint16).reshape(30, 30)
    >>> white_of(ramp), white_of(ramp / 900, floating=True), white_of(ramp // 4), white_of(ramp * 4)
    (1023.0, 1.0, 255.0, 4095.0)
    """
    known = values[np.isfinite(values)] if floating else values
    high = float(np.percentile(known, NEARLY_ALL)) if known.size else 0.0
    usual = (1.0, *WHITES) if floating else WHITES
    return next((white for white in usual if high <= white), usual[-1])


def white_of_set(depths: Iterable[Depth]) -> float | None:
    """The one white of pictures that belong together and do not say what theirs is: all of them fit into it.

    Parameters
    ----------
    depths : iterable of Depth

    Returns
    -------
    float or None
        None where every file says what is white.

    Examples
    --------
    >>> white_of_set([Depth(least=1023.0), Depth(least=4095.0), Depth(declared=65535.0)])
    4095.0
    """
    return max((each.least for each in depths if each.least is not None), default=None)


def white_for(depth: Depth, chosen: float | None, of_set: float | None) -> float:
    """What is white in a picture: what a person chose, else what its file says, else that of the set it belongs to, else
    that of the picture alone.

    Examples
    --------
    >>> white_for(Depth(declared=4095.0), None, 1023.0), white_for(Depth(declared=4095.0), 1023.0, None)
    (4095.0, 1023.0)
    >>> white_for(Depth(least=1023.0), None, 4095.0), white_for(Depth(least=1023.0), None, None)
    (4095.0, 1023.0)
    """
    return next(each for each in (chosen, depth.declared, of_set, depth.least) if each is not None)


def as_eight_bits(values: NDArray[Any], white: float) -> NDArray[np.uint8]:
    """Values of a deep picture in 8 bits; what is not finite is black, or white where it is infinite."""
    known = np.nan_to_num(values.astype(np.float64), nan=0.0, posinf=white, neginf=0.0)
    made: NDArray[np.uint8] = np.clip(known / white * 255, 0, 255).round().astype(np.uint8)
    return made


def opaque_of(loaded: Loaded) -> float:
    """What is opaque in a picture of deep colours: the least usual white that no value of its alpha is above."""
    upper = int(np.asarray(loaded.picture.getchannel("A")).max())
    return next(white for white in WHITES if upper <= int(white) >> 8)


def declared_by_tags(picture: Picture) -> float | None:
    """What a TIFF says is its largest value; None where it does not."""
    tags: Any = getattr(picture, "tag_v2", {})
    for tag in (SMAX_SAMPLE, MAX_SAMPLE):
        told = tags.get(tag)
        value = told[0] if isinstance(told, tuple) and told else told
        if isinstance(value, int | float) and np.isfinite(value) and value > 0:
            return float(value)
    return None


def meaning_bits(source: Path | BinaryIO) -> int | None:
    """How many bits of a PNG's values mean something, as its ``sBIT`` chunk says (PNG, 11.3.2.7)."""
    with source.open("rb") if isinstance(source, Path) else nullcontext(source) as file:
        file.seek(8)
        while len(head := file.read(8)) == 8:
            length, kind = struct.unpack(">I4s", head)
            if kind == b"sBIT" and 0 < length <= 4:
                bits = max(file.read(length))
                return bits if 8 <= bits <= 16 else None
            if kind in (b"PLTE", b"IDAT"):
                return None
            file.seek(length + 4, io.SEEK_CUR)
    return None
