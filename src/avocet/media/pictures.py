"""Reading pictures as people really have them, and writing them."""

import io
import warnings
from pathlib import Path
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageOps, UnidentifiedImageError
from PIL.Image import Image as Picture

from avocet.core.errors import InputError

SUFFIXES = frozenset({".jpg", ".jpeg", ".png", ".webp", ".bmp", ".tif", ".tiff"})
FORMATS = ("JPEG", "PNG", "WEBP", "BMP", "TIFF")
SMALLEST_SIDE = 8
LARGEST_PIXELS = 150_000_000

# The limit is checked below, against the header, with a message that names the file.
Image.MAX_IMAGE_PIXELS = None


def read_picture(source: Path | BinaryIO, name: str | None = None) -> NDArray[np.uint8]:
    """Read a picture upright and as 8-bit RGB.

    EXIF orientation is applied; 16-bit, grey, palette and CMYK pictures are converted; a
    transparent picture is laid on white.

    Parameters
    ----------
    source : Path or binary file
    name : str, optional
        What to call it in messages; by default the file's name.

    Returns
    -------
    (H, W, 3) ndarray of uint8

    Raises
    ------
    InputError
        If it is not a picture of a known format, is damaged, too small or too large.
    """
    called = name or (source.name if isinstance(source, Path) else "picture")
    return np.asarray(upright_rgb(source, called))


def upright_rgb(source: Path | BinaryIO, called: str) -> Picture:
    """As `read_picture`, but a Pillow picture."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(source, formats=FORMATS) as opened:
                _check_size(opened.width, opened.height, called)
                opened.load()
                upright = ImageOps.exif_transpose(opened)
                return _to_rgb(upright)
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


def picture_size(path: Path, name: str | None = None) -> tuple[int, int]:
    """Width and height of the upright picture in pixels, from its header alone.

    Raises
    ------
    InputError
        If it is not a picture of a known format, too small or too large.
    """
    called = name or path.name
    try:
        with Image.open(path, formats=FORMATS) as opened:
            width, height = opened.size
            turned = opened.getexif().get(0x0112, 1) in (5, 6, 7, 8)
    except FileNotFoundError:
        raise InputError(f"{called}: there is no such file") from None
    except Exception:
        raise InputError(f"{called} is {_why_unreadable(path)}") from None
    _check_size(width, height, called)
    return (height, width) if turned else (width, height)


def encode_jpeg(pixels: NDArray[np.uint8], quality: int = 92) -> bytes:
    """The picture as the bytes of a JPEG file."""
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "JPEG", quality=quality, subsampling=0)
    return buffer.getvalue()


def thumbnail_jpeg(pixels: NDArray[np.uint8], longest: int) -> bytes:
    """A small JPEG whose longer side has at most ``longest`` pixels."""
    small = Image.fromarray(pixels)
    small.thumbnail((longest, longest), Image.Resampling.BOX, reducing_gap=2.0)
    buffer = io.BytesIO()
    small.save(buffer, "JPEG", quality=82)
    return buffer.getvalue()


def _to_rgb(picture: Picture) -> Picture:
    if picture.mode.startswith("I;16") or picture.mode in ("I", "F"):
        values = np.asarray(picture, dtype=np.float64)
        top = 1.0 if picture.mode == "F" and values.max(initial=0) <= 1 else 65535.0
        return Image.fromarray(np.clip(values / top * 255, 0, 255).round().astype(np.uint8)).convert("RGB")
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
