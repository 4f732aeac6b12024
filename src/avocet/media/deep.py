"""Pictures of more than 8 bits: which of their values is white.

Networks and screens take 8 bits. A file may say how many of its bits mean something; where it does not, one picture
alone tells little, as a dark one of 12 bits looks like a bright one of 10. So it is judged over all pictures that belong
together, once for all of them.
"""

import io
import struct
from collections.abc import Iterable
from contextlib import nullcontext
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray
from PIL.Image import Image as Picture

DEEP_SUFFIXES = frozenset({".png", ".tif", ".tiff"})
"""Of the formats that are read, those that may have more than 8 bits."""

WHITES = (255.0, 1023.0, 4095.0, 16383.0, 65535.0)
"""What is white in pictures of 8, 10, 12, 14 and 16 bits, which are all kept in 16."""

NEARLY_ALL = 99.9
"""Per cent of the values that are not above white where a file does not say what it is: a hot pixel does not decide."""

LARGEST_WHITE = 2.0**32 - 1
"""The largest value of 32 bits."""

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


def is_deep(picture: Picture) -> bool:
    """Whether a picture has more than 8 bits; its header says so."""
    return picture.mode.startswith("I;16") or picture.mode in ("I", "F")


def depth_in(picture: Picture, source: Path | BinaryIO, measured: bool = True) -> Depth | None:
    """What a picture that is opened tells of its white; None where it has 8 bits.

    Parameters
    ----------
    picture : PIL.Image.Image
        Its pixels are read only where its file does not say what is white.
    source : Path or binary file
        What it was opened from.
    measured : bool
        Whether to look at the values of one whose file does not say what is white.

    Returns
    -------
    Depth or None
    """
    if not is_deep(picture):
        return None
    declared = _declared_white(picture, source)
    if declared is not None:
        return Depth(declared=declared)
    if not measured:
        return Depth()
    # By a thinned copy: of very many pixels a few say the same.
    step = max(1, round((picture.width * picture.height / 1_000_000) ** 0.5))
    return Depth(least=white_of(np.asarray(picture)[::step, ::step], picture.mode == "F"))


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


def grey_of(picture: Picture, white: float) -> NDArray[np.uint8]:
    """The values of a deep picture in 8 bits; what is not finite is black, or white where it is infinite."""
    values = np.nan_to_num(np.asarray(picture, dtype=np.float64), nan=0.0, posinf=white, neginf=0.0)
    made: NDArray[np.uint8] = np.clip(values / white * 255, 0, 255).round().astype(np.uint8)
    return made


def _declared_white(picture: Picture, source: Path | BinaryIO) -> float | None:
    """What a file says is white: of a PNG by its significant bits, of a TIFF by its largest value; None where it does not."""
    if picture.format == "PNG":
        bits = _significant_bits(source)
        return float(2**bits - 1) if bits is not None else None
    tags: Any = getattr(picture, "tag_v2", {})
    for tag in (SMAX_SAMPLE, MAX_SAMPLE):
        told = tags.get(tag)
        value = told[0] if isinstance(told, tuple) and told else told
        if isinstance(value, int | float) and np.isfinite(value) and value > 0:
            return float(value)
    return None


def _significant_bits(source: Path | BinaryIO) -> int | None:
    """The bits of a PNG's values that mean something, as its ``sBIT`` chunk says (PNG, 11.3.2.7)."""
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
