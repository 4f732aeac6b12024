"""Laying the pixels of a picture into the network's input."""

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from avocet.core.raw.letterbox import Letterbox

Colour = tuple[int, int, int]
"""Red, green and blue, 0 to 255."""

MIDDLE_GREY: Colour = (128, 128, 128)
"""Around pictures of which nothing is known."""

MOST_LOOKED_AT = 32


def mean_colour(pictures: Sequence[Callable[[], NDArray[np.uint8]]]) -> Colour:
    """The mean colour of pictures, to be laid around them: what a network sees there tells it the least.

    Parameters
    ----------
    pictures : sequence of callable
        Each returns (H, W, 3) uint8 pixels. Of very many, some are looked at, evenly chosen.

    Returns
    -------
    (red, green, blue)

    Examples
    --------
    >>> mean_colour([lambda: np.full((9, 16, 3), 60, np.uint8), lambda: np.full((9, 16, 3), 80, np.uint8)])
    (70, 70, 70)
    """
    step = max(1, -(-len(pictures) // MOST_LOOKED_AT))
    means = [read()[::4, ::4].mean(axis=(0, 1)) for read in pictures[::step]]
    red, green, blue = np.mean(means, axis=0).round().astype(int).tolist() if means else MIDDLE_GREY
    return red, green, blue


def lay_in(picture: NDArray[np.uint8], box: Letterbox, padding: Colour = MIDDLE_GREY) -> NDArray[np.uint8]:
    """Scale a picture and pad it as its `Letterbox` says.

    The one way from pixels to a network's input: of a file they are what `avocet.media.pictures.read_picture` gives, of
    a clip's frame and of a camera's the same made of what it holds, for training and measuring as for every use.

    Parameters
    ----------
    picture : (H, W, 3) ndarray of uint8
    box : Letterbox
        From `avocet.core.raw.letterbox.letterbox`.
    padding : (red, green, blue)
        The colour around the picture.

    Returns
    -------
    (input height, input width, 3) ndarray of uint8

    Examples
    --------
    >>> from avocet.core.raw.letterbox import letterbox
    >>> lay_in(np.zeros((540, 960, 3), np.uint8), letterbox(960, 540, 416), (60, 50, 40))[0, 0].tolist()
    [60, 50, 40]
    """
    canvas = np.empty((box.input_height, box.input_width, 3), dtype=np.uint8)
    fill(canvas, padding)
    scaled = scale_to(picture, box.width, box.height)
    canvas[box.top : box.top + box.height, box.left : box.left + box.width] = scaled
    return canvas


def scale_to(pixels: NDArray[np.uint8], width: int, height: int) -> NDArray[np.uint8]:
    """Scale a picture: averaged over whole blocks of pixels, and the rest, less than twice, by a triangle filter.

    A filter as wide as all that falls into one pixel takes twice the time, and a network finds no more on what it makes.
    Rows are filtered before columns, whatever the shape: `avocet.detector.engines.find_boxes` makes the same bytes.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
    width, height : int

    Returns
    -------
    (height, width, 3) ndarray of uint8

    Examples
    --------
    >>> scale_to(np.array([[[0] * 3, [100] * 3], [[200] * 3, [100] * 3]], np.uint8), 1, 1).tolist()
    [[[100, 100, 100]]]
    """
    if pixels.shape[1] == width and pixels.shape[0] == height:
        return pixels
    picture = Image.fromarray(pixels)
    size_x, size_y = picture.size
    block_x, block_y = max(1, size_x // width), max(1, size_y // height)
    if block_x > 1 or block_y > 1:
        picture = picture.reduce((block_x, block_y))
    across = (0, 0, size_x / block_x, picture.height)
    picture = picture.resize((width, picture.height), Image.Resampling.BILINEAR, across)
    down = (0, 0, width, size_y / block_y)
    return np.asarray(picture.resize((width, height), Image.Resampling.BILINEAR, down))


def scale_by(pixels: NDArray[np.uint8], factor: float) -> NDArray[np.uint8]:
    """Scale a picture by a factor, by a triangle filter.

    The factor is kept to exactly, whatever the size: pixel i of what is made lies where i / factor to
    (i + 1) / factor of the picture do. What is left of the picture at its far ends, less than a pixel, is cut.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
    factor : float
        At least 1 / min(H, W).

    Returns
    -------
    (floor(H * factor), floor(W * factor), 3) ndarray of uint8
        At least one pixel each way.

    Examples
    --------
    >>> scale_by(np.array([[[0] * 3, [100] * 3], [[200] * 3, [100] * 3]], np.uint8), 0.5).tolist()
    [[[100, 100, 100]]]
    """
    # Here, as the server and the commands that need no network start without it.
    import torch

    height, width = pixels.shape[:2]
    # torch's kernel for bytes takes a quarter of the time of Pillow's, where colours lie side by side.
    given = torch.empty((1, 3, height, width), dtype=torch.uint8, memory_format=torch.channels_last)
    given[0].permute(1, 2, 0).numpy()[...] = pixels
    made = torch.nn.functional.interpolate(
        given,
        scale_factor=(factor, factor),
        mode="bilinear",
        antialias=True,
        recompute_scale_factor=False,
    )
    return made[0].permute(1, 2, 0).numpy()


def fill(canvas: NDArray[np.uint8], colour: Colour) -> None:
    """Give a whole canvas, (H, W, 3), one colour: one row, then that row everywhere, sixty times as quick.

    Examples
    --------
    >>> canvas = np.empty((4, 6, 3), np.uint8)
    >>> fill(canvas, (60, 50, 40)); canvas[3, 5].tolist()
    [60, 50, 40]
    """
    canvas[:1] = colour
    canvas[1:] = canvas[:1]
