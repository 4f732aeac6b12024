"""JPEGs decoded straight into an array.

Pillow decodes with the same library, but then takes as long again to hand its pixels over.
"""

from contextlib import nullcontext
from pathlib import Path
from typing import BinaryIO

import numpy as np
import simplejpeg
from numpy.typing import NDArray
from PIL.ImageFile import ImageFile

MOST_NOTES = 16_000_000
"""Bytes that a file may have beyond what its pixels take uncompressed; a larger one is no picture alone."""


def decoded_straight(opened: ImageFile, source: Path | BinaryIO) -> NDArray[np.uint8] | None:
    """The pixels of an ordinary JPEG, to the very values that Pillow gives.

    Parameters
    ----------
    opened : PIL.ImageFile.ImageFile
        Its header, as Pillow has read it.
    source : Path or binary file
        That it was read from.

    Returns
    -------
    (H, W, 3) ndarray of uint8, optional
        As they lie in the file, not turned upright. None for what Pillow has to read: other formats and colours,
        what is damaged, of which it says how, and files with so much behind the picture that they should not be
        held in memory.

    Examples
    --------
    >>> import io
    >>> from PIL import Image
    >>> file = io.BytesIO()
    >>> Image.new("RGB", (16, 8), (200, 30, 30)).save(file, "JPEG")
    >>> decoded_straight(Image.open(file), file).shape
    (8, 16, 3)
    """
    if opened.format != "JPEG" or opened.mode not in ("RGB", "L"):
        return None
    most = 3 * opened.width * opened.height + MOST_NOTES
    with source.open("rb") if isinstance(source, Path) else nullcontext(source) as file:
        file.seek(0)
        content = file.read(most + 1)
    if len(content) > most:
        return None
    try:
        pixels: NDArray[np.uint8] = simplejpeg.decode_jpeg(content)
    except ValueError:
        return None
    return pixels if pixels.shape == (opened.height, opened.width, 3) else None
