"""Tightening: fitting a roughly drawn box to the edges of its object, from the picture alone."""

from typing import Any

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, as_boxes, iou

REACH = 0.2
"""How far an edge may move, as a share of the box's side."""

LEVELS = (6, 14, 14)
"""Steps of brightness and of the two colour axes in the colour counts."""

LEAST_SPAN = (24.0, 12.0, 6.0)
"""Least differences along these axes, in grey levels, that are spread over all steps."""

LEAST_PIXELS = 9
"""Of fewer pixels nothing is counted."""

WORKING_SIDE = 128
"""The box is looked at with about so many pixels along its longer side."""

TOUCHED = 1
"""So many pixels of a row or column must belong to the object for the object to reach so far: specks are gone by then."""

CUT_THROUGH = 0.25
"""An edge moves outwards only where the drawn one cuts through the object: so much of what lies beyond is filled."""

TIGHT_ALREADY = 0.92
"""A box that overlaps so well with what was found is as good as that, and stays."""

STAYS = 0.025
"""An edge found nearer to the drawn one than this share of the side stays as it was drawn."""

UNLIKE, MARGIN = 1.2, 0.03
"""The colours in the box must differ from those around it (total variation) by so many times as much as those of
one side around it do from the others, and by a margin."""

LEAST_OWN = 0.08
"""Share of the box that must be of colours which are not around it."""

GROUND_SHOWS = 0.35
"""Share of the ground's colours that are taken to be no more frequent in the box than ground shows in it."""

LIKELIER = 0.7
"""Logarithm of how much likelier than ground a pixel of the object is."""

MOSTLY_INSIDE = 0.6
"""Share of a patch that lies in the drawn box, if it is the object's and not a neighbour's."""

LEAST_PATCH = 0.02
"""Share of the box that a patch of the object covers."""

ROUNDS = 3
"""Times that colours of object and ground are counted anew from what was found."""


def tighten(pixels: NDArray[np.uint8], box: ArrayLike) -> Array:
    """Fit a roughly drawn box to the object in it.

    Colours of a frame around the box are those of the ground, evened out where it is shaded. What the
    box has beyond as much ground as shows in it are the object's, as in histogram-based
    segmentation; it need be neither solid nor in the middle, such as a ring. Each edge then moves, by
    at most a fifth of the side, to where the object ends, be it in a tip. An edge that
    is right already stays, and a box whose colours differ from those around it no more than these do
    among each other comes back as it was.

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
    softened: NDArray[np.float32] = scipy.ndimage.gaussian_filter(
        blocks.mean(axis=(1, 3), dtype=np.float32), (0.7, 0.7, 0)
    )
    return softened


def _object(crop: NDArray[np.float32], box: Array) -> NDArray[np.bool_] | None:
    """Which pixels belong to the object, or None where that cannot be told."""
    height, width = crop.shape[:2]
    rows, columns = np.arange(height) + 0.5, np.arange(width) + 0.5
    centre, half = (box[:2] + box[2:]) / 2, (box[2:] - box[:2]) / 2
    across = np.abs(columns - centre[0])[None] / half[0]
    down = np.abs(rows - centre[1])[:, None] / half[1]
    square = np.maximum(across, down)
    within, frame = square < 1.0, square > 1.0
    # Corners of the box are mostly ground, and count where the box fills the picture.
    ground = frame | (np.hypot(across, down) > 1.25)
    if within.sum() < LEAST_PIXELS or ground.sum() < LEAST_PIXELS:
        return None
    codes = _colour_codes(_evened(crop, frame))
    inside, outside = _counts(codes[within]), _counts(codes[ground])
    wavers = _unlike_among(codes, frame, rows, columns, box)
    if np.abs(inside - outside).sum() / 2 < UNLIKE * wavers + MARGIN:
        return None
    own = np.maximum(inside - _ground_in(inside, outside) * outside, 0)
    if own.sum() < LEAST_OWN:
        return None
    own /= own.sum()
    mask = np.zeros(within.shape, dtype=bool)
    for _ in range(ROUNDS):
        likely = np.log(own[codes] + 1e-4) - np.log(outside[codes] + 1e-4)
        mask = (scipy.ndimage.gaussian_filter(likely, 0.7) > LIKELIER) & (square < 1 + 2 * REACH)
        mask = _patches(mask, within)
        sure, ground = mask & (square < 0.98), ~scipy.ndimage.binary_dilation(mask, iterations=2)
        if sure.sum() < LEAST_PIXELS or ground.sum() < LEAST_PIXELS:
            return None
        own, outside = _counts(codes[sure]), _counts(codes[ground])
    return mask


def _evened(crop: NDArray[np.float32], frame: NDArray[np.bool_]) -> NDArray[np.float32]:
    """The crop without the shading of its ground: a plane through the frame's brightness, whatever stands out of it."""
    height, width = crop.shape[:2]
    y, x = np.mgrid[:height, :width]
    places = np.stack(
        [np.ones(height * width), (x / width - 0.5).ravel(), (y / height - 0.5).ravel()], axis=1
    )
    light, every = crop.mean(axis=2).ravel(), frame.ravel()
    used, plane = every, np.full(height * width, 1.0)
    for _ in range(4):
        if used.sum() < LEAST_PIXELS:
            return crop
        plane = places @ np.linalg.lstsq(places[used], light[used], rcond=None)[0]
        off = np.abs(light - plane)
        used = every & (off <= max(3 * float(np.median(off[used])), 2.0))
    level = float(np.median(plane[every]))
    if level < 4:
        return crop
    shading = np.clip(plane / level, 0.4, 2.5).reshape(height, width, 1)
    return np.asarray(crop / shading, dtype=np.float32)


def _unlike_among(
    codes: NDArray[np.int64], frame: NDArray[np.bool_], rows: NDArray[Any], columns: NDArray[Any], box: Array
) -> float:
    """How much the colours on one side of the box differ from those on the others, in the middle of the four."""
    sides = [columns[None] < box[0], columns[None] > box[2], rows[:, None] < box[1], rows[:, None] > box[3]]
    unlike = []
    for side in sides:
        here, others = frame & side, frame & ~side
        if here.sum() >= 3 * LEAST_PIXELS and others.any():
            unlike.append(np.abs(_counts(codes[here]) - _counts(codes[others])).sum() / 2)
    return float(np.median(unlike)) if unlike else 0.0


def _ground_in(inside: Array, outside: Array) -> float:
    """Share of the box in which the ground shows: what its colours have there of their frequency around it."""
    known = outside > 1e-4
    ratio, weight = inside[known] / outside[known], outside[known]
    order = np.argsort(ratio)
    passed = np.cumsum(weight[order]) / weight.sum()
    return float(np.clip(ratio[order][np.searchsorted(passed, GROUND_SHOWS)], 0, 1))


def _patches(mask: NDArray[np.bool_], within: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Of what may be object the patches that lie in the box for the most part, and are more than specks."""
    names, count = scipy.ndimage.label(mask)
    whole, inner, solid = (
        np.bincount(names[chosen], minlength=count + 1)
        for chosen in (mask, mask & within, scipy.ndimage.binary_opening(mask))
    )
    good = (inner > MOSTLY_INSIDE * whole) & (solid > 0) & (whole >= LEAST_PATCH * within.sum())
    good[0] = False
    return np.asarray(good[names])


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
    smooth = scipy.ndimage.gaussian_filter(cells, 0.8, mode="nearest")
    return np.asarray((smooth / max(smooth.sum(), 1e-9)).ravel())


def _fitted(mask: NDArray[np.bool_], box: Array) -> Array:
    """The box with each edge where the object's rows or columns end, within reach."""
    found = box.copy()
    for axis in (0, 1):
        first, second = box[axis], box[axis + 2]
        reach = REACH * (second - first)
        other = np.clip(np.round([box[1 - axis], box[3 - axis]]).astype(int), 0, mask.shape[axis])
        strip = mask[other[0] : other[1]] if axis == 0 else mask[:, other[0] : other[1]]
        filled, across = strip.sum(axis=axis), max(1, strip.shape[axis])
        found[axis] = _edge(filled, across, first, reach)
        found[axis + 2] = len(filled) - _edge(filled[::-1], across, len(filled) - second, reach)
    return found


def _edge(filled: NDArray[np.int64], across: int, drawn: float, reach: float) -> float:
    """Where the object begins near a drawn edge, given its pixels in each row or column."""
    places = np.arange(len(filled))
    touched = places[(filled >= TOUCHED) & (np.abs(places - drawn) <= reach)]
    if not len(touched):
        return drawn
    found = float(touched[0])
    beyond = filled[int(found) : int(np.ceil(drawn))] / across
    if found < drawn and beyond.mean() < CUT_THROUGH:
        return drawn
    return found
