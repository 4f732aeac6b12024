"""A harder clip of the belt: goods that drift across one another, a bridge over the belt, a speed that changes."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.demo.belt import HEIGHT, RAIL, WIDTH, _belt_texture, _compose, _place_goods
from avocet.demo.goods import NAMES

BRIDGE = (250, 310)
"""Rows of the picture that are covered: what lies below it is not seen."""

SEEN = 0.5
"""Share of a good that must be seen for it to be one that could have been found."""


@dataclass(frozen=True)
class TrueFrame:
    """A frame, and where every good truly is.

    Attributes
    ----------
    pixels : (540, 960, 3) ndarray of uint8
    boxes : (G, 4) ndarray of float64
        Of all goods of the clip, whole, also where they are covered or not in the picture yet.
    visible : (G,) ndarray of bool
        Of which enough is seen.
    """

    pixels: NDArray[np.uint8]
    boxes: Array
    visible: NDArray[np.bool_]


class HarderBelt:
    """Goods on a belt whose speed changes, drifting to either side, under a bridge.

    Parameters
    ----------
    seed : int
    frames : int
    alike : bool
        All goods of a kind are the same one, turned the same way.
    dimming : float
        Share of the light that goes and comes again, once a second.
    """

    def __init__(self, seed: int, frames: int, alike: bool = False, dimming: float = 0.0) -> None:
        generator = np.random.default_rng(seed)
        # Between standing nearly still and twice the usual pace.
        pace = 5.0 + 4.5 * np.sin(np.linspace(0, 5 * np.pi, frames) + generator.uniform(0, 6))
        self.travel = np.cumsum(pace)
        self._goods = _place_goods(
            generator, -self.travel[-1], HEIGHT, int(8 * (HEIGHT + self.travel[-1]) / HEIGHT)
        )
        if alike:
            tiles = {each.name: each.tile for each in reversed(self._goods)}
            self._goods = [replace(each, tile=tiles[each.name]) for each in self._goods]
        self._dimming = dimming
        self._drift = generator.uniform(-1.6, 1.6, len(self._goods))
        self._belt, self._seed = _belt_texture(generator), seed
        self.kinds = np.array([NAMES.index(each.name) for each in self._goods])

    def frame(self, number: int) -> TrueFrame:
        """A frame, counted from 0."""
        x = np.array([good.x for good in self._goods]) + self._drift * number
        # Where a good meets a rail it comes back.
        low, high = RAIL + 50, WIDTH - RAIL - 50
        x = low + np.abs((x - low + (high - low)) % (2 * (high - low)) - (high - low))
        moved = [replace(good, x=float(at)) for good, at in zip(self._goods, x, strict=True)]
        travel = float(self.travel[number])
        grain = np.random.default_rng([self._seed, number])
        light = 0.95 * (1 - self._dimming * (0.5 - 0.5 * np.cos(2 * np.pi * number / 25)))
        pixels = np.array(_compose(self._belt, moved, travel, light, grain).pixels)
        pixels[BRIDGE[0] : BRIDGE[1]] = (96, 99, 102)
        half = np.array([[good.tile.width / 2, good.tile.height / 2] for good in self._goods])
        middle = np.column_stack([x, np.array([good.y for good in self._goods]) + travel])
        boxes = np.hstack([middle - half, middle + half])
        top, bottom = boxes[:, 1].clip(0, HEIGHT), boxes[:, 3].clip(0, HEIGHT)
        covered = (np.minimum(bottom, BRIDGE[1]) - np.maximum(top, BRIDGE[0])).clip(0)
        seen = (bottom - top - covered) / (boxes[:, 3] - boxes[:, 1])
        return TrueFrame(pixels, boxes, seen >= SEEN)
