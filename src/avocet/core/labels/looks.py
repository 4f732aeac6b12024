"""What pictures and crops look like: figures to compare them by."""

from itertools import pairwise

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, as_boxes

CROP_FEATURES = 8 * 8 + 4 * 4 * 6 + 2
"""How many figures `crop_features` gives."""

SURROUNDING = 0.1
"""Share of a box's sides that is looked at around it."""


def crop_features(pixels: NDArray[np.uint8], box: ArrayLike) -> NDArray[np.float32]:
    """Figures that tell one crop from another: brightness laid out, edge directions, colour.

    An 8×8 picture of brightness, histograms of gradient directions in 4×4 cells with 4
    directions, as in the published histograms of oriented gradients, two colour differences of
    each cell, and the shape and size of the box. Each group has about the same weight.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
        The whole picture, RGB.
    box : (4,) array_like
        ``[x1, y1, x2, y2]`` in the picture's pixels.

    Returns
    -------
    (162,) ndarray of float32

    Examples
    --------
    >>> crop_features(np.zeros((20, 20, 3), np.uint8), [2, 2, 12, 12]).shape
    (162,)
    """
    x1, y1, x2, y2 = as_boxes(np.asarray(box)[None])[0]
    small = _resized(_cut(pixels, box), 32)
    light = small.mean(axis=2) / 255
    layout = light.reshape(8, 4, 8, 4).mean(axis=(1, 3))
    down, across = np.gradient(scipy.ndimage.gaussian_filter(light, 1))
    strength = np.hypot(down, across)
    direction = (np.arctan2(down, across) % np.pi / np.pi * 4).astype(int) % 4
    cells = np.stack([np.where(direction == each, strength, 0) for each in range(4)])
    edges = cells.reshape(4, 4, 8, 4, 8).sum(axis=(2, 4))
    edges = edges / (np.linalg.norm(edges) + 0.1)
    hues = np.stack([small[..., 0] - small[..., 1], small[..., 1] - small[..., 2]]) / 255
    colour = hues.reshape(2, 4, 8, 4, 8).mean(axis=(2, 4))
    shape = [np.log((x2 - x1) / (y2 - y1)) / 2, np.log(max((x2 - x1) * (y2 - y1), 1)) / 8]
    groups = (layout.ravel() / 8, edges.ravel(), colour.ravel() / 4, np.asarray(shape))
    return np.concatenate(groups).astype(np.float32)


def crop_brightness(pixels: NDArray[np.uint8], box: ArrayLike) -> float:
    """Mean brightness of a crop, from 0 (black) to 1 (white).

    Examples
    --------
    >>> crop_brightness(np.full((9, 9, 3), 51, np.uint8), [1, 1, 5, 5])
    0.2
    """
    return round(float(_cut(pixels, box, 0.0).mean()) / 255, 4)


def strangeness(features: ArrayLike, neighbours: int = 5, most: int = 5000) -> Array:
    """How unlike the others each row is: its mean distance to its nearest neighbours.

    Parameters
    ----------
    features : (N, F) array_like
    neighbours : int
        How many others count; fewer where there are fewer.
    most : int
        Where there are more rows than that, the neighbours of each are sought among every k-th row
        only, about so many: the time grows with N and not with its square.

    Returns
    -------
    (N,) ndarray of float64
        0 or more; large is strange.

    Examples
    --------
    >>> strangeness([[0.0], [1.0], [2.0], [9.0]], neighbours=1).tolist()
    [1.0, 1.0, 1.0, 7.0]
    """
    rows = np.asarray(features, dtype=np.float64)
    count = len(rows)
    if count < 2:
        return np.zeros(count)
    others = np.arange(0, count, -(-count // most))
    squares = (rows**2).sum(axis=1)
    result = np.empty(count)
    # In blocks, so that many thousand rows fit into memory.
    for first in range(0, count, 1024):
        block = np.arange(first, min(first + 1024, count))
        apart = squares[block, None] + squares[None, others] - 2 * rows[block] @ rows[others].T
        itself = block[:, None] == others[None]
        apart[itself] = np.inf
        near = min(neighbours, len(others) - int(itself.any()))
        nearest = np.partition(apart, near - 1, axis=1)[:, :near]
        result[block] = np.sqrt(np.maximum(nearest, 0)).mean(axis=1)
    return result


def picture_look(pixels: NDArray[np.uint8]) -> int:
    """A 64-bit difference hash: near-identical pictures differ in few bits.

    The picture is shrunk to 9×8 grey values; each bit says whether a value is greater than its
    right neighbour.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8

    Returns
    -------
    int
        Signed, so that it fits a database's 64-bit integer.

    Examples
    --------
    >>> belt = np.tile(np.arange(90, dtype=np.uint8)[None, :, None], (80, 1, 3))
    >>> picture_look(belt), picture_look(belt[:, ::-1])
    (0, -1)
    """
    grey = _grey_layout(pixels, 8, 9)
    bits = (grey[:, :-1] > grey[:, 1:]).ravel()
    return int(np.packbits(bits).view(">i8")[0])


def alike(first: NDArray[np.uint8], second: NDArray[np.uint8], most: float = 0.06) -> bool:
    """Whether two pictures show the same scene but for noise, compression and overall brightness.

    A camera over one place gives pictures that are alike almost everywhere; what tells them apart
    is some spot. So the greatest difference counts, over a grid of 32×18 means with the mean
    brightness of each picture taken off.

    Parameters
    ----------
    first, second : (H, W, 3) ndarray of uint8
        May differ in size.
    most : float
        Greatest difference in any cell, as a share of the range from black to white.

    Returns
    -------
    bool

    Examples
    --------
    >>> belt = np.full((90, 160, 3), 60, np.uint8)
    >>> goods = belt.copy()
    >>> goods[40:60, 70:90] = 200
    >>> alike(belt, belt + 9), alike(belt, goods)
    (True, False)
    """
    a, b = (_grey_layout(pixels, 18, 32) for pixels in (first, second))
    return bool(np.abs((a - a.mean()) - (b - b.mean())).max() <= most * 255)


def bits_apart(first: int, second: int) -> int:
    """In how many of their 64 bits two looks differ.

    Parameters
    ----------
    first, second : int
        As from `picture_look`.

    Returns
    -------
    int

    Examples
    --------
    >>> bits_apart(0b0110, 0b0011), bits_apart(-1, 0)
    (2, 64)
    """
    return ((first ^ second) & 0xFFFF_FFFF_FFFF_FFFF).bit_count()


def near_identical(looks: ArrayLike, groups: ArrayLike, most: int = 5) -> list[tuple[int, int, int]]:
    """Pairs of pictures in different groups whose looks differ in few bits.

    Parameters
    ----------
    looks : (N,) array_like of int
        As from `picture_look`.
    groups : (N,) array_like of int
        Pairs within one group are left out.
    most : int
        Bits that may differ.

    Returns
    -------
    list of (first, second, bits)
        Indices of the pictures and how many bits differ, nearest first.

    Examples
    --------
    >>> near_identical([0b0000, 0b0001, 0b1111], [0, 1, 1], most=2)
    [(0, 1, 1)]
    """
    values = np.asarray(looks, dtype=np.int64).view(np.uint64)
    of = np.asarray(groups)
    # Cut into one band more than bits may differ, two near looks have a band in common: only
    # pictures that share one are compared.
    edges = np.linspace(0, 64, most + 2).astype(int)
    found: dict[tuple[int, int], int] = {}
    for low, high in pairwise(edges.tolist()):
        band = (values >> np.uint64(low)) & np.uint64((1 << (high - low)) - 1)
        order = np.argsort(band, kind="stable")
        ordered = band[order]
        apart = 1
        while apart < len(order):
            same = np.flatnonzero(ordered[apart:] == ordered[:-apart])
            if not len(same):
                break
            one, other = order[same], order[same + apart]
            bits = np.bitwise_count(values[one] ^ values[other])
            for place in np.flatnonzero((bits <= most) & (of[one] != of[other])):
                first, second = sorted((int(one[place]), int(other[place])))
                found[first, second] = int(bits[place])
            apart += 1
    return sorted(
        ((i, j, bits) for (i, j), bits in found.items()), key=lambda pair: (pair[2], pair[0], pair[1])
    )


def _cut(pixels: NDArray[np.uint8], box: ArrayLike, around: float = SURROUNDING) -> NDArray[np.uint8]:
    """The box's content with a little surrounding, at least one pixel."""
    height, width = pixels.shape[:2]
    x1, y1, x2, y2 = as_boxes(np.asarray(box)[None])[0]
    wide, high = around * (x2 - x1), around * (y2 - y1)
    left, top = int(np.clip(x1 - wide, 0, width - 1)), int(np.clip(y1 - high, 0, height - 1))
    right, bottom = int(np.clip(np.ceil(x2 + wide), left + 1, width)), int(np.ceil(y2 + high))
    return pixels[top : int(np.clip(bottom, top + 1, height)), left:right]


def _grey_layout(pixels: NDArray[np.uint8], rows: int, columns: int) -> Array:
    """Mean brightness over a grid of equal areas.

    Sums of whole numbers: no rounding tells equal areas apart, and no threads are woken for so little.
    """
    height, width = pixels.shape[:2]
    grey = pixels.sum(axis=2, dtype=np.int64)
    sums = _whole_sums(_whole_sums(grey, rows).T, columns).T
    return np.asarray(sums / (3 * height * width))


def _whole_sums(values: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """Sums over ``count`` equal stretches of the first axis, times ``count``, so that parts of a pixel are whole."""
    length = len(values)
    before = np.concatenate([np.zeros_like(values[:1]), np.cumsum(values, axis=0)])
    whole, rest = np.divmod(np.arange(count + 1) * length, count)
    row = values[np.minimum(whole, length - 1)]
    return np.diff(count * before[whole] + rest[:, None] * row, axis=0)


def _resized(pixels: NDArray[np.uint8], side: int) -> Array:
    """Means over equal areas, as (side, side, 3) of float64."""
    return _area_means(_area_means(pixels.astype(np.float64), side, 0), side, 1)


def _area_means(values: Array, count: int, axis: int) -> Array:
    """Shrink or stretch one axis to ``count`` values, each the mean over its share of the axis."""
    length = values.shape[axis]
    sums = np.concatenate(
        [np.zeros_like(values.take([0], axis=axis)), np.cumsum(values, axis=axis)], axis=axis
    )
    edges = np.linspace(0, length, count + 1)
    whole = np.minimum(edges.astype(int), length - 1)
    rest = (edges - whole).reshape([-1 if each == axis else 1 for each in range(values.ndim)])
    at_edges = sums.take(whole, axis=axis) + rest * values.take(whole, axis=axis)
    return np.asarray(np.diff(at_edges, axis=axis) * (count / length))
