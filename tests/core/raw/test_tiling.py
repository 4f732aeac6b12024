"""Tiles of large pictures."""

from itertools import pairwise

import numpy as np
import pytest

from avocet.core.raw.candidates import Candidates
from avocet.core.raw.tiling import MOST_TILES, OVERLAP, Tile, join_tiles, tiles_of


def seen_in(box, kind, tile, score=0.9):
    """What a network that sees everything would say of a thing in a tile: what of it lies there."""
    x1, y1 = max(box[0], tile.left) - tile.left, max(box[1], tile.top) - tile.top
    x2, y2 = min(box[2], tile.right) - tile.left, min(box[3], tile.bottom) - tile.top
    return ([x1, y1, x2, y2], score, kind) if x2 > x1 and y2 > y1 else None


def joined(things, width, height, side):
    tiles = tiles_of(width, height, side)
    found = []
    for tile in tiles:
        rows = [each for box, kind in things if (each := seen_in(box, kind, tile))]
        found.append(
            Candidates(
                np.array([row[0] for row in rows], dtype=np.float64).reshape(-1, 4),
                np.array([row[1] for row in rows]),
                np.array([row[2] for row in rows], dtype=np.int64),
            )
        )
    return join_tiles(found, tiles, width, height)


@pytest.mark.parametrize("seed", range(20))
def test_every_thing_is_told_whole_and_no_part_of_one(seed):
    """Of whatever size: each box that comes out is one of a thing, and each thing comes out."""
    generator = np.random.default_rng(seed)
    width, height, side = (int(v) for v in generator.integers([300, 300, 64], [3000, 3000, 400]))
    things = []
    for _ in range(30):
        size = np.minimum(np.exp(generator.uniform(np.log(8), np.log(900), 2)), [width - 2, height - 2])
        corner = generator.uniform(1, [width - size[0], height - size[1]])
        things.append(([*corner, *(corner + size)], int(generator.integers(100))))
    left = joined(things, width, height, side)
    told = {(kind, *np.round(box, 6)) for box, kind in zip(left.boxes, left.classes.tolist(), strict=True)}
    wanted = {(kind, *np.round(np.array(box), 6)) for box, kind in things}
    assert told <= wanted
    missing = [each for each in wanted - told if not within_another(each, wanted)]
    assert not missing


def within_another(one, all_of_them):
    """Of two of one class of which one lies in the other only one may stay."""
    return any(
        other != one
        and other[0] == one[0]
        and min(one[3], other[3]) > max(one[1], other[1])
        and min(one[4], other[4]) > max(one[2], other[2])
        for other in all_of_them
    )


@pytest.mark.parametrize("side", [64, 100, 384, 1000])
def test_neighbours_share_a_quarter_and_cover_all(side):
    width, height = 1700, 900
    tiles = tiles_of(width, height, side)
    assert tiles[-1] == Tile(0, 0, width, height, tiles[-1].least)
    finest = [each for each in tiles if each.least == 0]
    covered = np.zeros((height, width), bool)
    for each in finest:
        covered[each.top : each.bottom, each.left : each.right] = True
    assert covered.all()
    starts = sorted({each.left for each in finest})
    assert all(later - sooner <= side * (1 - OVERLAP) for sooner, later in pairwise(starts))


def test_a_crowd_taken_for_one_and_a_part_taken_for_the_whole():
    tiles = [Tile(0, 0, 100, 100), Tile(0, 0, 400, 400, 20.0)]
    small = Candidates(
        np.array([[10.0, 10, 30, 30], [40, 10, 60, 30]]), np.array([0.9, 0.9]), np.array([0, 1])
    )
    crowd = Candidates(np.array([[8.0, 8, 70, 35]]), np.array([0.6]), np.array([0]))
    assert join_tiles([small, crowd], tiles, 400, 400).scores.tolist() == [0.9, 0.9]
    whole = Candidates(np.array([[8.0, 8, 70, 35]]), np.array([0.95]), np.array([0]))
    left = join_tiles([small, whole], tiles, 400, 400)
    assert left.scores.tolist() == [0.95, 0.9] and left.classes.tolist() == [0, 1]
    nothing = Candidates(np.zeros((0, 4)), np.zeros(0), np.zeros(0, np.int64))
    assert len(join_tiles([nothing, nothing], tiles, 400, 400).boxes) == 0


def test_what_cannot_be_cut():
    with pytest.raises(ValueError, match="0×10"):
        tiles_of(0, 10, 100)
    with pytest.raises(ValueError, match=f"{MOST_TILES:,} tiles of 64"):
        tiles_of(20_000, 20_000, 64)
