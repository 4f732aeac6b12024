"""Large pictures in overlapping tiles, so that small objects keep the pixels that a network needs."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array, area, intersection
from avocet.core.raw.candidates import Candidates

GROWTH = 4
"""A tile of the next, coarser level is so many times as wide."""

OVERLAP = 0.25
"""Part of a tile's width that its neighbour sees too."""

AT_EDGE = 0.01
"""Part of a tile's longer side: a box that ends so near to where its tile was cut is taken for a part of something."""

LEAST = 0.8
"""A coarser tile answers from this part on of the longest side that a finer one is sure to see whole: a little less, as
boxes are not told to the pixel."""

WITHIN = 0.8
"""Part of a finer tile's box that must lie in a coarser one's for both to be taken for the same."""

MOST_TILES = 5_000


@dataclass(frozen=True)
class Tile:
    """A rectangle of a picture, in its pixels; right and lower end are outside of it.

    Boxes whose longer side is under ``least`` are for finer tiles: a crowd of small things, looked at from afar,
    is easily taken for a large one.
    """

    left: int
    top: int
    right: int
    bottom: int
    least: float = 0.0


def tiles_of(width: int, height: int, side: int) -> list[Tile]:
    """The tiles that a picture is looked at in, finest first and last the whole picture.

    The finest tiles are ``side`` wide and high, those of each coarser level four times as much. Neighbours
    share a quarter, so whatever is no larger than a quarter of a tile lies whole in one of its level. What
    is larger is for the next level: there it still covers more than a sixteenth of the tile's width.

    Parameters
    ----------
    width, height : int
        Of the picture, in pixels.
    side : int
        Of the finest tiles, in pixels.

    Returns
    -------
    list of Tile

    Raises
    ------
    ValueError
        If a size is not positive, or there would be more than `MOST_TILES`.

    Examples
    --------
    >>> [len(tiles_of(1280, 720, side)) for side in (1280, 640, 384)]
    [1, 7, 16]
    >>> tiles_of(600, 300, 400)[:2]
    [Tile(left=0, top=0, right=400, bottom=300, least=0.0), Tile(left=200, top=0, right=600, bottom=300, least=0.0)]
    """
    if width < 1 or height < 1 or side < 1:
        raise ValueError(f"a picture of {width}×{height} pixels cannot be cut into tiles of {side}")
    made: list[Tile] = []
    least = 0.0
    while side < max(width, height):
        columns, rows = _starts(width, side), _starts(height, side)
        if len(made) + len(columns) * len(rows) > MOST_TILES:
            raise ValueError(
                f"a picture of {width}×{height} pixels would be cut into more than {MOST_TILES:,} tiles of {side}"
            )
        made += [
            Tile(left, top, min(left + side, width), min(top + side, height), least)
            for top in rows
            for left in columns
        ]
        least = LEAST * OVERLAP * side
        side *= GROWTH
    return [*made, Tile(0, 0, width, height, least)]


def _starts(length: int, side: int) -> list[int]:
    """Where tiles begin: evenly, as few as overlap by a quarter."""
    if length <= side:
        return [0]
    steps = -(-(length - side) // max(1, int(side * (1 - OVERLAP))))
    return [round(place * (length - side) / steps) for place in range(steps + 1)]


def join_tiles(found: Sequence[Candidates], tiles: Sequence[Tile], width: int, height: int) -> Candidates:
    """What was found in the tiles of one picture, in its pixels, without the parts of what a tile has cut.

    Boxes that reach the edge of a tile which is not one of the picture are left out: what they show lies
    whole in a neighbour or in a coarser tile. So are boxes of a coarser tile that are for finer ones. Where
    one of a finer tile lies within a coarser one's of the same class, the one of higher score stays: a coarser
    tile takes a crowd for one, a finer tile a part for the whole. What several tiles have found alike is for suppression.

    Parameters
    ----------
    found : sequence of Candidates
        Of each tile, in the tile's own pixels.
    tiles : sequence of Tile
    width, height : int
        Of the picture, in pixels.

    Returns
    -------
    Candidates
        Best score first.

    Examples
    --------
    >>> one = Candidates(np.array([[0.0, 10, 30, 40], [50, 10, 80, 40]]), np.array([0.9, 0.8]), np.array([0, 1]))
    >>> join_tiles([one], [Tile(100, 0, 200, 100)], 400, 100).boxes
    array([[150.,  10., 180.,  40.]])
    """
    boxes, scores, classes = [np.zeros((0, 4))], [np.zeros(0)], [np.zeros(0, np.int64)]
    levels = [np.zeros(0)]
    for each, tile in zip(found, tiles, strict=True):
        whole = _uncut(each, tile, width, height)
        boxes.append(each.boxes[whole] + [tile.left, tile.top, tile.left, tile.top])
        scores.append(each.scores[whole])
        classes.append(each.classes[whole])
        levels.append(np.full(int(whole.sum()), tile.least))
    joined = Candidates(np.concatenate(boxes), np.concatenate(scores), np.concatenate(classes))
    kept = np.flatnonzero(~_taken_twice(joined, np.concatenate(levels)))
    order = kept[np.argsort(-joined.scores[kept], kind="stable")]
    return Candidates(joined.boxes[order], joined.scores[order], joined.classes[order])


def _taken_twice(found: Candidates, levels: Array) -> NDArray[np.bool_]:
    """Which boxes are the worse one of a pair of which the finer lies within the coarser."""
    worse = np.zeros(len(levels), bool)
    areas = area(found.boxes)
    for level in np.unique(levels)[1:]:
        finer = np.flatnonzero(levels < level)
        for coarse in np.flatnonzero(levels == level):
            same = finer[found.classes[finer] == found.classes[coarse]]
            inside = intersection(found.boxes[[coarse]], found.boxes[same])[0] >= WITHIN * areas[same]
            better = found.scores[same] > found.scores[coarse]
            worse[coarse] |= bool((inside & better).any())
            worse[same[inside & ~better]] = True
    return worse


def _uncut(found: Candidates, tile: Tile, width: int, height: int) -> NDArray[np.bool_]:
    wide, high = tile.right - tile.left, tile.bottom - tile.top
    near = AT_EDGE * max(wide, high)
    x1, y1, x2, y2 = found.boxes.T
    whole: NDArray[np.bool_] = np.maximum(x2 - x1, y2 - y1) >= tile.least
    if tile.left > 0:
        whole &= x1 > near
    if tile.top > 0:
        whole &= y1 > near
    if tile.right < width:
        whole &= x2 < wide - near
    if tile.bottom < height:
        whole &= y2 < high - near
    return whole
