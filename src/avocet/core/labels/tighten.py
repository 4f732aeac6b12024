"""Tightening: fitting a roughly drawn box to the edges of its object, from the picture alone."""

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, as_boxes, iou
from avocet.core.labels.edges import FACTS, chosen_place, edge_places, sharpest_near

REACH = 0.2
"""How far an edge may move, as a share of the box's side."""

LEVELS = (6, 14, 14)
"""Steps of brightness and of the two colour axes in the colour counts."""

LEAST_SPAN = (24.0, 12.0, 6.0)
"""Least differences along these axes, in grey levels, that are spread over all steps."""

LEAST_PIXELS = 9
"""Of fewer pixels nothing is counted."""

WORKING_SIDE = 112
"""The box is looked at with about so many pixels along its longer side."""

PASSES = 3
"""Times that the box is fitted: what was found first tells object and ground better apart."""

SURER = 1.0
"""An edge moves where the place found is so many times e likelier than the drawn one."""

SURER_LOOSE = -0.5
"""The same once another edge has moved: whoever drew one loosely drew all so."""

TIGHT_ALREADY = 0.95
"""A box that overlaps so well with what was found is as good as that, and stays."""

GROUND_SHOWS = 0.35
"""Share of the ground's colours that are taken to be no more frequent in the box than ground shows in it."""

LIKELIER = 0.7
"""Logarithm of how much likelier than ground a pixel of the object is."""

MOSTLY_INSIDE = 0.6
"""Share of a patch that lies in the box, if it is the object's and not a neighbour's."""

LEAST_PATCH = 0.02
"""Share of the box that a patch of the object covers."""

LEAST_OWN = 0.08
"""Share of the box that must be of colours which are not around it."""

ROUNDS = 3
"""Times that colours of object and ground are counted anew from what was found."""

WEIGHTS = {
    "step": -0.393,
    "step near": 1.601,
    "strange inside": 0.171,
    "strange just outside": 0.101,
    "strange outside": -0.316,
    "stranger inside": 0.632,
    "likely inside": 1.070,
    "likely just outside": -1.635,
    "likely outside": 0.183,
    "cover inside": -0.460,
    "touched inside": 0.464,
    "touched just outside": -0.653,
    "touched outside": -2.289,
    "cover outside": -8.907,
    "inwards": -1.792,
    "outwards": -6.846,
    "as drawn": 0.000,
    "next to it": 0.251,
    "beyond": 0.128,
}
"""What each fact about a place counts, learnt from boxes whose edges are known (`scripts/edge_weights.py`)."""


def tighten(pixels: NDArray[np.uint8], box: ArrayLike) -> Array:
    """Fit a roughly drawn box to the object in it.

    Colours of a frame around the box are those of the ground, evened out where it is shaded. What the
    box has beyond as much ground as shows in it are the object's, as in histogram-based
    segmentation; it need be neither solid nor in the middle, such as a ring. Each edge may then lie at
    any place within a fifth of the side. How likely each is depends on how much the colour changes there,
    how unlike the ground beside it what lies inside and outside is, and where the object's pixels end: a
    conditional logit (McFadden, 1974), whose weights are learnt from photographs and rendered scenes. An
    edge moves where another place is clearly likelier than the drawn one.

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
    crop, local, step, corner = crop_around(pixels, drawn)
    # Beyond an edge on the picture's border there is nothing to tell the object from.
    free = (drawn != [0, 0, width, height]).nonzero()[0]
    fitted = _fitted(crop, local, free)
    found = np.where(fitted == local, drawn, fitted * step + corner)
    for edge in np.flatnonzero(fitted != local).tolist():
        found[edge] = sharpest_near(pixels, found, edge, step)
    if (found[2:] - found[:2] < 2).any() or iou([found], [drawn])[0, 0] >= TIGHT_ALREADY:
        return drawn
    tightened: Array = np.clip(found, 0, [width, height] * 2)
    return tightened


def crop_around(
    pixels: NDArray[np.uint8], box: Array
) -> tuple[NDArray[np.float32], Array, int, NDArray[np.int64]]:
    """A box with its surroundings at the size that they are looked at.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
    box : (4,) ndarray of float64
        Within the picture.

    Returns
    -------
    crop : (h, w, 3) ndarray of float32
    box : (4,) ndarray of float64
        In pixels of the crop.
    step : int
        Pixels of the picture for one of the crop.
    corner : (4,) ndarray of int64
        ``left, top, left, top`` of the crop in the picture.
    """
    height, width = pixels.shape[:2]
    sides = box[2:] - box[:2]
    margin = REACH * sides + 3
    left, top = np.floor(np.maximum(box[:2] - margin, 0)).astype(int)
    right, bottom = np.ceil(np.minimum(box[2:] + margin, [width, height])).astype(int)
    step = max(1, round(float(sides.max()) / WORKING_SIDE))
    corner = np.array([left, top, left, top])
    return _shrunk(pixels[top:bottom, left:right], step), (box - corner) / step, step, corner


def _fitted(crop: NDArray[np.float32], drawn: Array, free: NDArray[np.int64]) -> Array:
    """The box with each edge that is free to move at its likeliest place, where that is clear."""
    weights = np.array([WEIGHTS[name] for name in FACTS])
    found, surer = drawn, SURER
    for _ in range(PASSES):
        before, found = found, found.copy()
        likely, mask = object_and_ground(crop, before)
        for edge in free.tolist():
            place = chosen_place(edge_places(crop, likely, mask, before, edge, REACH), weights, surer)
            if place is not None:
                found[edge] = place if edge < 2 else crop.shape[1 - edge % 2] - place
        if (found == before).all():
            break
        surer = SURER_LOOSE
    return found


def _shrunk(pixels: NDArray[np.uint8], step: int) -> NDArray[np.float32]:
    """Means over squares of ``step`` pixels, lightly smoothed against noise."""
    rows, columns = pixels.shape[0] // step * step, pixels.shape[1] // step * step
    blocks = pixels[:rows, :columns].reshape(rows // step, step, columns // step, step, 3)
    softened: NDArray[np.float32] = scipy.ndimage.gaussian_filter(
        blocks.mean(axis=(1, 3), dtype=np.float32), (0.7, 0.7, 0)
    )
    return softened


def object_and_ground(crop: NDArray[np.float32], box: Array) -> tuple[Array, NDArray[np.bool_]]:
    """What is likely of the object and what of the ground.

    Parameters
    ----------
    crop : (H, W, 3) ndarray of float32
    box : (4,) ndarray of float64
        In pixels of the crop.

    Returns
    -------
    likely : (H, W) ndarray of float64
        Logarithm of how much likelier a pixel's colour is of the object, by what the box has beyond the ground.
    mask : (H, W) ndarray of bool
        The object's pixels; none where they cannot be told.
    """
    height, width = crop.shape[:2]
    rows, columns = np.arange(height) + 0.5, np.arange(width) + 0.5
    centre, half = (box[:2] + box[2:]) / 2, (box[2:] - box[:2]) / 2
    across = np.abs(columns - centre[0])[None] / half[0]
    down = np.abs(rows - centre[1])[:, None] / half[1]
    square = np.maximum(across, down)
    within, frame = square < 1.0, square > 1.0
    nothing = np.zeros(within.shape), np.zeros(within.shape, dtype=bool)
    # Corners of the box are mostly ground, and count where the box fills the picture.
    ground = frame | (np.hypot(across, down) > 1.25)
    if within.sum() < LEAST_PIXELS or ground.sum() < LEAST_PIXELS:
        return nothing
    codes = _colour_codes(_evened(crop, frame))
    inside, outside = _counts(codes[within]), _counts(codes[ground])
    own = np.maximum(inside - _ground_in(inside, outside) * outside, 0)
    share = own.sum()
    own = own / max(share, 1e-9)
    likelier = _likelier(codes, own, outside)
    first, mask = np.clip(likelier, -4, 6), nothing[1]
    if share < LEAST_OWN:
        return first, mask
    for _ in range(ROUNDS):
        mask = (likelier > LIKELIER) & (square < 1 + 2 * REACH)
        mask = _patches(mask, within)
        sure, ground = mask & (square < 0.98), ~scipy.ndimage.binary_dilation(mask, iterations=2)
        if sure.sum() < LEAST_PIXELS or ground.sum() < LEAST_PIXELS:
            return first, nothing[1]
        likelier = _likelier(codes, _counts(codes[sure]), _counts(codes[ground]))
    return first, mask


def _likelier(codes: NDArray[np.int64], own: Array, outside: Array) -> Array:
    """Logarithm of how much likelier each pixel is of the object, evened out a little."""
    return np.asarray(
        scipy.ndimage.gaussian_filter(np.log(own[codes] + 1e-4) - np.log(outside[codes] + 1e-4), 0.7)
    )


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
