"""What speaks for each place where an edge of an object may lie, near that of a roughly drawn box.

An edge is looked at as if it were crossed from the left: outside first, then the object.
"""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from avocet.core.boxes import Array

FACTS = (
    "step", "step near", "strange inside", "strange just outside", "strange outside", "stranger inside",
    "likely inside", "likely just outside", "likely outside", "cover inside", "touched inside", "touched just outside",
    "touched outside", "cover outside", "inwards", "outwards", "as drawn", "next to it", "beyond",
)  # fmt: skip

TOUCHING = 0.04
"""Share of an edge's length over which values are evened out along it: an object touches its edge at least so broadly."""

ROWS_AROUND = 4
"""What lies outside is known where it looks like something so many rows near."""

RING = 24
"""Columns outside that are looked at for that."""


CLEARLY = 2.5
"""So many times as much the colour must change elsewhere for an edge that is known but for a pixel to be put there: a soft
edge is not where it changes most."""


@dataclass(frozen=True)
class EdgePlaces:
    """What speaks for the places of one edge.

    Attributes
    ----------
    places : (K,) ndarray of int64
        Columns of the oriented crop in which the object may begin.
    facts : (K, F) ndarray of float64
        `FACTS` of each.
    drawn : float
        Where the edge was drawn.
    """

    places: NDArray[np.int64]
    facts: Array
    drawn: float


def oriented(values: NDArray[np.generic], edge: int) -> NDArray[np.generic]:
    """A crop turned so that an edge (0 left, 1 top, 2 right, 3 bottom) is crossed from the left.

    Examples
    --------
    >>> oriented(np.array([[1, 2], [3, 4]]), 3).tolist()
    [[3, 1], [4, 2]]
    """
    turned = values if edge % 2 == 0 else values.swapaxes(0, 1)
    return turned[:, ::-1] if edge > 1 else turned


def edge_places(
    crop: NDArray[np.float32], likely: Array, mask: NDArray[np.bool_], box: Array, edge: int, reach: float
) -> EdgePlaces:
    """What speaks for the places of an edge.

    Parameters
    ----------
    crop : (H, W, 3) ndarray of float32
        The box with its surroundings.
    likely : (H, W) ndarray of float64
        Logarithm of how much likelier each pixel is of the object than of the ground.
    mask : (H, W) ndarray of bool
        Which pixels are taken for the object's.
    box : (4,) ndarray of float64
        As drawn, in pixels of the crop.
    edge : int
        0 left, 1 top, 2 right, 3 bottom.
    reach : float
        How far the edge may move, as a share of the box's side.

    Returns
    -------
    EdgePlaces
    """
    axis = edge % 2
    whole = crop.shape[1 - axis]
    drawn = float(box[edge] if edge < 2 else whole - box[edge])
    length = float(box[axis + 2] - box[axis])
    low, high = int(max(0, np.floor(box[1 - axis]))), int(np.ceil(box[3 - axis]))
    colours = np.asarray(oriented(crop, edge)[low:high], dtype=np.float32)
    at, far = round(drawn), int(np.ceil(reach * length))
    places = np.arange(max(1, at - far), min(whole - 2, at + far) + 1)
    strange = _strange(colours, at, min(whole, at + far + 4))
    steps = _steps(colours, at)
    belief = _evened(np.asarray(oriented(likely, edge)[low:high], dtype=np.float64)).max(axis=0) / 4
    filled = np.asarray(oriented(mask, edge)[low:high], dtype=np.float64)
    cover, touched = filled.mean(axis=0), (filled.sum(axis=0) >= 1).astype(np.float64)
    first = max(0, at - far)
    facts = []
    for place in places.tolist():
        inside, beside, outside = (
            slice(place, place + 2),
            slice(max(place - 2, 0), place),
            slice(first, place),
        )
        facts.append(
            [
                steps[place],
                steps[max(place - 1, 0) : place + 2].max(),
                _mean(strange[inside]),
                _mean(strange[beside]),
                _mean(strange[outside]),
                _mean(strange[inside]) - _mean(strange[beside]),
                _mean(belief[inside]),
                _mean(belief[beside]),
                _mean(belief[outside]),
                _mean(cover[inside]),
                _mean(touched[inside]),
                _mean(touched[beside]),
                _mean(touched[:place]),
                _mean(cover[:place]),
                max(0.0, place - at) / length * 5,
                max(0.0, at - place) / length * 5,
                float(place == at),
                float(abs(place - at) == 1),
                float(place < at),
            ]
        )
    return EdgePlaces(places, np.array(facts, dtype=np.float64).reshape(-1, len(FACTS)), drawn)


def chosen_place(found: EdgePlaces, weights: Array, surer: float) -> int | None:
    """The likeliest place of an edge, where it is so much likelier than the drawn one; else None.

    A conditional logit over the places (McFadden, 1974).

    Parameters
    ----------
    found : EdgePlaces
    weights : (F,) ndarray of float64
        Of the facts.
    surer : float
        Least difference of the logarithms of both probabilities, each with those of its neighbours.
    """
    if not len(found.places):
        return None
    logits = found.facts @ weights
    shares = np.exp(logits - logits.max())
    best, at = int(shares.argmax()), round(found.drawn)
    if abs(int(found.places[best]) - at) <= 1:
        return None
    here = shares[np.abs(found.places - at) <= 1].sum()
    there = shares[max(0, best - 1) : best + 2].sum()
    return int(found.places[best]) if np.log(there + 1e-12) - np.log(here + 1e-12) >= surer else None


def sharpest_near(pixels: NDArray[np.uint8], box: Array, edge: int, within: int) -> float:
    """An edge that is known but for a few pixels, put where the colour changes most if it changes there by far the most.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
    box : (4,) ndarray of float64
        Within the picture.
    edge : int
        0 left, 1 top, 2 right, 3 bottom.
    within : int
        Pixels to either side.

    Returns
    -------
    float
        The place of the edge in the picture.

    Examples
    --------
    >>> belt = np.full((60, 60, 3), 200, np.uint8)
    >>> belt[20:40, 20:40] = 60
    >>> sharpest_near(belt, np.array([21.0, 20.0, 40.0, 40.0]), 0, 2)
    20.0
    """
    axis = edge % 2
    whole = pixels.shape[1 - axis]
    place = round(box[edge] if edge < 2 else whole - box[edge])
    low, high = int(max(0, np.floor(box[1 - axis]))), int(np.ceil(box[3 - axis]))
    first, last = max(0, place - within - 2), min(whole, place + within + 2)
    strip = np.asarray(oriented(pixels, edge)[low:high, first:last], dtype=np.float64)
    if place - first < 1 or last - place < 1:
        return float(box[edge])
    change = np.abs(np.diff(strip, axis=1))
    most = np.sqrt((_evened(change) ** 2).sum(axis=-1)).max(axis=0)
    # The change between two columns is where the second begins.
    places = np.arange(first + 1, last)
    near = np.abs(places - place) <= within
    best = int(places[near][most[near].argmax()])
    if most[near].max() < CLEARLY * most[places == place].max(initial=0.0):
        return float(box[edge])
    return float(best if edge < 2 else whole - best)


def _mean(values: Array) -> float:
    return float(values.mean()) if len(values) else 0.0


def _evened(values: Array) -> Array:
    """Means along the edge."""
    along = max(3, round(TOUCHING * len(values)) | 1)
    return np.asarray(scipy.ndimage.uniform_filter1d(values, along, axis=0, mode="nearest"))


def _strange(colours: NDArray[np.float32], at: int, span: int) -> Array:
    """How unlike what lies outside of the drawn edge each column is where it is most unlike, against what is usual outside."""
    rows = colours.shape[0]
    first = max(0, at - 1 - RING)
    ring = colours[:, first : max(at - 1, 1)]
    padded = np.pad(ring, ((ROWS_AROUND, ROWS_AROUND), (0, 0), (0, 0)), mode="edge")
    around = sliding_window_view(
        padded, 2 * ROWS_AROUND + 1, axis=0
    )  # rows, columns of the ring, 3, rows around
    known = around.transpose(0, 3, 1, 2).reshape(rows, -1, 3)
    seen = colours[:, :span]
    distances = (
        (seen**2).sum(-1)[:, :, None] + (known**2).sum(-1)[:, None] - 2 * seen @ known.transpose(0, 2, 1)
    ).reshape(rows, span, 2 * ROWS_AROUND + 1, -1)
    # A pixel outside is not known by itself, nor by those that were smoothed together with it.
    apart = np.abs(np.arange(span)[:, None] - np.arange(first, first + ring.shape[1])[None])
    limit = np.where(np.arange(2 * ROWS_AROUND + 1) == ROWS_AROUND, 2, 1)
    itself = apart[:, None] <= limit[None, :, None]
    nearest = np.where(itself[None], np.float32(1e5), distances).min(axis=(2, 3))
    most = _evened(np.sqrt(np.clip(nearest, 0, 1e5)).astype(np.float64)).max(axis=0)
    usual = float(np.median(most[: max(at - 1, 1)])) + 3
    return np.asarray(np.log(most / usual + 0.2))


def _steps(colours: NDArray[np.float32], at: int) -> Array:
    """How much the colour changes from each column's left to it where it changes most, against what is usual outside."""
    padded = np.pad(colours, ((0, 0), (2, 2), (0, 0)), mode="edge").astype(np.float64)
    pairs = (padded[:, 1:] + padded[:, :-1]) / 2
    change = pairs[:, 2:] - pairs[:, :-2]
    most = np.sqrt((_evened(change) ** 2).sum(axis=-1)).max(axis=0)
    return np.asarray(np.log((most + 2) / (np.median(most[: max(at, 2)]) + 2)))
