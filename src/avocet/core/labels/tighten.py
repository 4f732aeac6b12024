"""Tightening: fitting a roughly drawn box to the edges of its object, from the picture alone."""

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import ndimage

from avocet.core.boxes import Array, as_boxes, iou

REACH = 0.2
"""How far an edge may move, as a share of the box's side."""

LEVELS = (6, 14, 14)
"""Steps of brightness and of the two colour axes in the colour counts."""

LEAST_SPAN = (24.0, 12.0, 6.0)
"""Least differences along these axes, in grey levels, that are spread over all steps."""

WORKING_SIDE = 128
"""The box is looked at with about so many pixels along its longer side."""

TOUCHED = 0.06
"""Share of a row or column that must belong to the object for the object to reach so far."""

CUT_THROUGH = 0.33
"""An edge moves outwards only where the drawn one cuts through the object: so much of what lies beyond is filled."""

TIGHT_ALREADY = 0.92
"""A box that overlaps so well with what was found is as good as that, and stays."""

TOLD_APART = 0.15
"""Share of the colours in which object and background must differ (total variation)."""

STAYS = 0.025
"""An edge found nearer to the drawn one than this share of the side stays as it was drawn."""


def tighten(pixels: NDArray[np.uint8], box: ArrayLike) -> Array:
    """Fit a roughly drawn box to the object in it.

    Colours that are frequent in a frame around the box and rare in its middle are taken for
    background, as in histogram-based segmentation; what is likelier object than background and
    hangs together with the middle is the object. Each edge then moves, by at most a fifth of the
    side, to where the object's rows or columns end. An edge that is right already stays, and a
    box in which object and background cannot be told apart comes back as it was.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
        The whole picture, RGB.
    box : (4,) array_like
        ``[x1, y1, x2, y2]`` in the picture's pixels.

    Returns
    -------
    (4,) ndarray of float64
        The box, inside the picture.

    Raises
    ------
    ValueError
        If the picture has another shape or the box has no area within it.

    Examples
    --------
    A dark square on a pale ground, drawn too large:

    >>> belt = np.full((100, 100, 3), 200, np.uint8)
    >>> belt[30:70, 30:70] = 60
    >>> tighten(belt, [26, 25, 73, 76]).tolist()
    [30.0, 30.0, 70.0, 70.0]
    """
    if pixels.ndim != 3 or pixels.shape[2] != 3:
        raise ValueError(f"a picture has shape (H, W, 3), not {pixels.shape}")
    height, width = pixels.shape[:2]
    drawn: Array = np.clip(as_boxes(np.asarray(box)[None])[0], 0, [width, height, width, height])
    sides = drawn[2:] - drawn[:2]
    if (sides <= 0).any():
        raise ValueError(f"the box {np.asarray(box).tolist()} has no area in a picture of {width}×{height}")
    if sides.min() < 4:
        return drawn
    margin = REACH * sides + 2
    left, top = np.floor(np.maximum(drawn[:2] - margin, 0)).astype(int)
    right, bottom = np.ceil(np.minimum(drawn[2:] + margin, [width, height])).astype(int)
    step = max(1, round(float(sides.max()) / WORKING_SIDE))
    crop = _shrunk(pixels[top:bottom, left:right], step)
    corner = np.array([left, top, left, top])
    local = (drawn - corner) / step
    mask = _object(crop, local)
    if mask is None:
        return drawn
    found = _fitted(mask, local) * step + corner
    if iou([found], [drawn])[0, 0] >= TIGHT_ALREADY:
        return drawn
    small = np.abs(found - drawn) <= np.maximum(STAYS * np.tile(sides, 2), step)
    tightened: Array = np.clip(np.where(small, drawn, found), 0, [width, height] * 2)
    return tightened


def _shrunk(pixels: NDArray[np.uint8], step: int) -> NDArray[np.float32]:
    """Means over squares of ``step`` pixels, lightly smoothed against noise."""
    rows, columns = pixels.shape[0] // step * step, pixels.shape[1] // step * step
    blocks = pixels[:rows, :columns].reshape(rows // step, step, columns // step, step, 3)
    softened: NDArray[np.float32] = ndimage.gaussian_filter(
        blocks.mean(axis=(1, 3), dtype=np.float32), (0.7, 0.7, 0)
    )
    return softened


def _object(crop: NDArray[np.float32], box: Array) -> NDArray[np.bool_] | None:
    """Which pixels belong to the object, or None where that cannot be told."""
    height, width = crop.shape[:2]
    rows, columns = np.arange(height) + 0.5, np.arange(width) + 0.5
    centre, half = (box[:2] + box[2:]) / 2, (box[2:] - box[:2]) / 2
    across = (columns - centre[0]) / half[0]
    down = (rows - centre[1]) / half[1]
    radius = np.hypot(across[None], down[:, None])
    square = np.maximum(np.abs(across)[None], np.abs(down)[:, None])
    middle, around = radius < 0.6, square > 1.0
    # Corners of the box are mostly background, and count where the box fills the picture.
    around |= radius > 1.25
    if middle.sum() < 9 or around.sum() < 9:
        return None
    codes = _colour_codes(crop)
    for _ in range(2):
        inside = _counts(codes[middle])
        outside = _counts(codes[around])
        if np.abs(inside - outside).sum() < 2 * TOLD_APART:
            return None
        likely = np.log(inside[codes] + 1e-4) - np.log(outside[codes] + 1e-4)
        likely = ndimage.gaussian_filter(likely, 1.0)
        mask = (likely > 0) & (square < 1 + 2 * REACH)
        mask = ndimage.binary_opening(mask, iterations=1) | (mask & middle)
        names, _ = ndimage.label(mask)
        inner = names[middle & mask]
        if not len(inner):
            return None
        mask = ndimage.binary_fill_holes(names == np.bincount(inner).argmax())
        middle = mask & (square < 0.95)
        around = ~mask
        if middle.sum() < 9 or around.sum() < 9:
            return None
    return np.asarray(mask)


def _colour_codes(crop: NDArray[np.float32]) -> NDArray[np.int64]:
    """Each pixel's cell in a grid over brightness and two shares of colour.

    Brightness has fewer steps than the shares: a shadow changes it, but not what lies there.
    """
    light = crop.mean(axis=2)
    shares = crop / np.maximum(light, 8.0)[..., None] * 80.0
    axes = np.stack([light, shares[..., 0] - shares[..., 2], shares[..., 1] - 80.0], axis=-1)
    low, high = np.percentile(axes, [1, 99], axis=(0, 1))
    # Differences below a few grey levels are noise, never structure.
    span = np.maximum(high - low, LEAST_SPAN)
    cells = np.clip((axes - low) / span * LEVELS, 0, np.array(LEVELS) - 1).astype(np.int64)
    return np.asarray(cells @ np.array([LEVELS[1] * LEVELS[2], LEVELS[2], 1]))


def _counts(codes: NDArray[np.int64]) -> Array:
    """Smoothed share of each colour cell."""
    cells = np.bincount(codes, minlength=int(np.prod(LEVELS))).reshape(LEVELS).astype(np.float64)
    smooth = ndimage.gaussian_filter(cells, 0.8, mode="nearest")
    return np.asarray((smooth / max(smooth.sum(), 1e-9)).ravel())


def _fitted(mask: NDArray[np.bool_], box: Array) -> Array:
    """The box with each edge where the object's rows or columns end, within reach."""
    found = box.copy()
    for axis in (0, 1):
        first, second = box[axis], box[axis + 2]
        reach = REACH * (second - first)
        other = np.clip(np.round([box[1 - axis], box[3 - axis]]).astype(int), 0, mask.shape[axis])
        strip = mask[other[0] : other[1]] if axis == 0 else mask[:, other[0] : other[1]]
        filled = strip.mean(axis=axis) if strip.size else np.zeros(0)
        found[axis] = _edge(filled, first, reach)
        found[axis + 2] = len(filled) - _edge(filled[::-1], len(filled) - second, reach)
    return found


def _edge(filled: Array, drawn: float, reach: float) -> float:
    """Where the object begins near a drawn edge, given the filled share of each row or column."""
    places = np.arange(len(filled))
    touched = places[(filled > TOUCHED) & (np.abs(places - drawn) <= reach)]
    if not len(touched):
        return drawn
    found = float(touched[0])
    beyond = filled[int(found) : int(np.ceil(drawn))]
    if found < drawn and beyond.mean() < CUT_THROUGH:
        return drawn
    return found
