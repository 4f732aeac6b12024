"""Reading pictures as people really have them, and writing them."""

import io
import struct
import threading
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from importlib import import_module
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray
from PIL import Image, UnidentifiedImageError
from PIL.Image import Image as Picture
from PIL.ImageFile import ImageFile

from avocet.core.errors import InputError
from avocet.media.deep import (
    WHITES,
    Depth,
    Loaded,
    as_eight_bits,
    declared_by_tags,
    depth_of,
    has_deep_colours,
    is_deep,
    load_low,
    opaque_of,
    white_for,
    white_is_in_header,
)
from avocet.media.jpeg import decoded_straight

SUFFIXES = frozenset({".jpg", ".jpeg", ".png", ".webp", ".bmp", ".tif", ".tiff"})
FORMATS = ("JPEG", "PNG", "WEBP", "BMP", "TIFF")
for _format in ("Jpeg", "Png", "WebP", "Bmp", "Tiff"):
    # By name, as Pillow otherwise loads what it has for forty more when it meets the first file that is none of its own five.
    import_module(f"PIL.{_format}ImagePlugin")
SMALLEST_SIDE = 8
LARGEST_PIXELS = 105_000_000
"""What the largest sensors of ordinary cameras give. Decoding takes seven bytes a pixel, so that this is
under a gigabyte."""

STRIP = 2_000_000
"""Pixels converted at a time, so that a picture and its copies never lie side by side in memory."""

ORIENTATION = 0x0112
"""The EXIF tag that says how a picture is to be turned."""

UPRIGHT: dict[int, Callable[[NDArray[np.uint8]], NDArray[np.uint8]]] = {
    2: lambda pixels: pixels[:, ::-1],
    3: lambda pixels: pixels[::-1, ::-1],
    4: lambda pixels: pixels[::-1],
    5: lambda pixels: pixels.transpose(1, 0, 2),
    6: lambda pixels: pixels[::-1].transpose(1, 0, 2),
    7: lambda pixels: pixels[::-1, ::-1].transpose(1, 0, 2),
    8: lambda pixels: pixels[:, ::-1].transpose(1, 0, 2),
}
"""What each EXIF orientation but the first asks for."""

# The limit is checked below, against the header, with a message that names the file.
Image.MAX_IMAGE_PIXELS = None


class _Room:
    """Lets only so many pixels be decoded at once: several large pictures wait for one another."""

    def __init__(self, pixels: int) -> None:
        self._free, self._changed = pixels, threading.Condition()

    @contextmanager
    def held(self, pixels: int) -> Iterator[None]:
        with self._changed:
            self._changed.wait_for(lambda: self._free >= pixels)
            self._free -= pixels
        try:
            yield
        finally:
            with self._changed:
                self._free += pixels
                self._changed.notify_all()


_room = _Room(LARGEST_PIXELS)


def read_picture(
    source: Path | BinaryIO, name: str | None = None, longest: float | None = None, white: float | None = None
) -> NDArray[np.uint8]:
    """Read a picture upright and as 8-bit RGB.

    EXIF orientation is applied; grey, palette and CMYK pictures are converted; a transparent picture
    is laid on white.

    Parameters
    ----------
    source : Path or binary file
    name : str, optional
        What to call it in messages; by default the file's name.
    longest : float, optional
        So many pixels of the longer side are enough: a JPEG comes with a half, a quarter or an eighth of its
        sides where that leaves as many.
    white : float, optional
        What is white in a picture of more than 8 bits; by default what its file says, else what the picture alone
        lets one think (`avocet.media.deep.white_for`).

    Returns
    -------
    (H, W, 3) ndarray of uint8

    Raises
    ------
    InputError
        If it is not a picture of a known format, is damaged, too small or too large.
    """
    called = _called(source, name)
    if longest is None:
        with _opened(source, called) as opened, _room.held(opened.width * opened.height):
            pixels = decoded_straight(opened, source)
            if pixels is not None:
                return _upright(pixels, _orientation(opened))
    with _loaded(source, called, longest) as loaded:
        return _upright(_rgb(loaded, _white(loaded, source, white)), _orientation(loaded.picture))


def picture_size(source: Path | BinaryIO, name: str | None = None) -> tuple[int, int]:
    """Width and height of the upright picture in pixels, from its header alone.

    Raises
    ------
    InputError
        If it is not a picture of a known format, too small or too large.
    """
    with _opened(source, _called(source, name)) as opened:
        width, height = opened.size
        # Pillow would decode a whole PNG to see whether a note on its orientation comes after the pixels.
        found = _png_orientation(source) if opened.format == "PNG" else _orientation(opened)
        return (height, width) if found in (5, 6, 7, 8) else (width, height)


def has_more_pages(path: Path) -> bool:
    """Whether a file holds further pages or frames; only the first is ever read."""
    with _opened(path, path.name) as opened:
        if opened.format != "TIFF":
            return bool(getattr(opened, "is_animated", False))
        # To count them all, every header would have to be read.
        try:
            opened.seek(1)
        except EOFError:
            return False
        return True


def picture_depth(source: Path | BinaryIO, name: str | None = None, measured: bool = True) -> Depth | None:
    """What a picture of more than 8 bits tells of its white; None for any other.

    Parameters
    ----------
    source : Path or binary file
    name : str, optional
    measured : bool
        Whether to look at the values of one whose file does not say what is white; else its header alone is read.

    Raises
    ------
    InputError
        As `read_picture`.
    """
    called = _called(source, name)
    with _opened(source, called) as opened:
        if not is_deep(opened):
            return None
        if not measured and white_is_in_header(opened, source):
            return Depth(declared=declared_by_tags(opened))
    with _loaded(source, called) as loaded:
        return depth_of(loaded, source, measured)


def small_picture(
    source: Path | BinaryIO, longest: int, name: str | None = None, white: float | None = None
) -> NDArray[np.uint8]:
    """A picture upright, as 8-bit RGB and no larger than ``longest`` pixels on its longer side.

    The whole file is read, so that damage is noticed, but where its format allows it no more pixels
    are made of it than needed.

    Parameters
    ----------
    source : Path or binary file
    longest : int
    name : str, optional
    white : float, optional
        As of `read_picture`.

    Returns
    -------
    (H, W, 3) ndarray of uint8

    Raises
    ------
    InputError
        As `read_picture`.
    """
    with _loaded(source, _called(source, name), longest) as loaded:
        picture = loaded.picture
        if picture.mode not in ("RGB", "L") or "transparency" in picture.info or loaded.is_deep:
            picture = Image.fromarray(_rgb(loaded, _white(loaded, source, white)))
        small = _shrunk(picture, longest)
        return _upright(np.asarray(small.convert("RGB")), _orientation(loaded.picture))


def no_larger(pixels: NDArray[np.uint8], longest: int) -> NDArray[np.uint8]:
    """Pixels scaled down until the longer side has ``longest``; smaller pictures as they are.

    Examples
    --------
    >>> no_larger(np.zeros((90, 160, 3), np.uint8), 80).shape
    (45, 80, 3)
    """
    if max(pixels.shape[:2]) <= longest:
        return pixels
    picture = Image.fromarray(pixels)
    picture.thumbnail((longest, longest), Image.Resampling.BILINEAR, reducing_gap=2.0)
    return np.asarray(picture)


def encode_jpeg(pixels: NDArray[np.uint8], quality: int = 92) -> bytes:
    """The picture as the bytes of a JPEG file."""
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "JPEG", quality=quality, subsampling=0)
    return buffer.getvalue()


def encode_png(pixels: NDArray[np.uint8]) -> bytes:
    """The picture as the bytes of a PNG file, quick rather than small."""
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "PNG", compress_level=1)
    return buffer.getvalue()


def _called(source: Path | BinaryIO, name: str | None) -> str:
    return name or (source.name if isinstance(source, Path) else "picture")


@contextmanager
def _loaded(source: Path | BinaryIO, called: str, longest: float | None = None) -> Iterator[Loaded]:
    """A picture whose pixels are there, once there was room for them: all, or as few as leave ``longest``."""
    with _opened(source, called) as opened:
        if longest is not None:
            _draft(opened, longest)
        deep, twice = is_deep(opened), has_deep_colours(opened)
        with _room.held(min(opened.width * opened.height * (2 if twice else 1), LARGEST_PIXELS)):
            opened.load()
            if not twice:
                yield Loaded(opened, deep)
                return
            with Image.open(source, formats=FORMATS) as again:
                yield Loaded(opened, deep, load_low(again))


def _draft(opened: Picture, longest: float) -> None:
    """Let a JPEG come with halves, quarters or eighths of its sides, as long as ``longest`` pixels are left."""
    if opened.format == "JPEG":
        scale = min(1.0, longest / max(opened.size))
        opened.draft("RGB", (max(1, int(scale * opened.width)), max(1, int(scale * opened.height))))


def _shrunk(picture: Picture, longest: int) -> Picture:
    """A smaller copy: by a whole factor, which is quick, and then by the rest."""
    factor = max(1, max(picture.size) // longest)
    small = picture.reduce(factor) if factor > 1 else picture.copy()
    small.thumbnail((longest, longest), Image.Resampling.BILINEAR)
    return small


@contextmanager
def _opened(source: Path | BinaryIO, called: str) -> Iterator[ImageFile]:
    """A picture whose header was read and whose size can be dealt with; what goes wrong within is said plainly."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(source, formats=FORMATS) as opened:
                _check_size(opened.width, opened.height, called)
                yield opened
    except FileNotFoundError:
        raise InputError(f"{called}: there is no such file") from None
    except UnidentifiedImageError:
        raise InputError(f"{called} is {_why_unreadable(source)}") from None
    except InputError:
        raise
    except MemoryError:
        raise InputError(f"{called} does not fit into memory") from None
    # Pillow's decoders raise many kinds of error on damaged files; all mean the same here.
    except Exception as error:
        raise InputError(f"{called} is damaged and cannot be read: {error}") from None


def _orientation(opened: Picture) -> int:
    # A TIFF is turned by Pillow itself, and its size is told as turned.
    return 1 if opened.format == "TIFF" else int(opened.getexif().get(ORIENTATION, 1) or 1)


def _png_orientation(source: Path | BinaryIO) -> int:
    """The orientation that a PNG notes before or after its pixels, found without decoding them."""
    with source.open("rb") if isinstance(source, Path) else nullcontext(source) as file:
        file.seek(8)
        while len(head := file.read(8)) == 8:
            length, kind = struct.unpack(">I4s", head)
            if kind == b"eXIf":
                exif = Image.Exif()
                exif.load(file.read(min(length, 1 << 16)))
                return int(exif.get(ORIENTATION, 1) or 1)
            file.seek(length + 4, io.SEEK_CUR)
    return 1


def _upright(pixels: NDArray[np.uint8], orientation: int) -> NDArray[np.uint8]:
    return np.ascontiguousarray(UPRIGHT[orientation](pixels)) if orientation in UPRIGHT else pixels


def _rgb(loaded: Loaded, white: float) -> NDArray[np.uint8]:
    """The pixels of a picture, converted strip by strip."""
    width, height = loaded.picture.size
    pixels = np.empty((height, width, 3), np.uint8)
    rows = max(1, STRIP // width)
    opaque = opaque_of(loaded) if loaded.low is not None and loaded.picture.mode == "RGBA" else WHITES[-1]
    for top in range(0, height, rows):
        bottom = min(top + rows, height)
        if loaded.is_deep:
            strip = _as_eight_bits(loaded.values(top, bottom), white, opaque)
        else:
            strip = loaded.picture.crop((0, top, width, bottom))
        pixels[top:bottom] = np.asarray(_to_rgb(strip))
    return pixels


def _white(loaded: Loaded, source: Path | BinaryIO, chosen: float | None) -> float:
    """What is white in a picture."""
    depth = depth_of(loaded, source) if chosen is None else None
    return white_for(depth, None, None) if depth is not None else chosen or WHITES[0]


def _as_eight_bits(values: NDArray[Any], white: float, opaque: float) -> Picture:
    """Grey values, colours, or colours and how opaque they are."""
    if values.ndim == 2 or values.shape[2] == 3:
        return Image.fromarray(as_eight_bits(values, white))
    return Image.fromarray(
        np.dstack([as_eight_bits(values[..., :3], white), as_eight_bits(values[..., 3], opaque)])
    )


def _to_rgb(picture: Picture) -> Picture:
    if picture.mode in ("RGBA", "LA", "PA", "La", "RGBa") or "transparency" in picture.info:
        layered = picture.convert("RGBA")
        paper = Image.new("RGBA", layered.size, (255, 255, 255, 255))
        return Image.alpha_composite(paper, layered).convert("RGB")
    return picture.convert("RGB")


def _check_size(width: int, height: int, called: str) -> None:
    if min(width, height) < SMALLEST_SIDE:
        raise InputError(f"{called} is {width}×{height} pixels; both sides need at least {SMALLEST_SIDE}")
    if width * height > LARGEST_PIXELS:
        raise InputError(
            f"{called} is {width}×{height} pixels; at most {LARGEST_PIXELS // 1_000_000} million are read"
        )


def _why_unreadable(source: Path | BinaryIO) -> str:
    if isinstance(source, Path) and source.stat().st_size == 0:
        return "empty (0 bytes)"
    return "not a JPEG, PNG, WebP, BMP or TIFF picture"
