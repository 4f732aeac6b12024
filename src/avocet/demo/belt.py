"""The cooling belt seen from above, with goods on it: stills and a moving clip, from a seed."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageFilter
from PIL.Image import Image as Picture

from avocet.core.boxes import Array, area, clip
from avocet.demo.goods import NAMES, draw_good

WIDTH, HEIGHT = 960, 540
"""Size of a frame in pixels."""

RAIL = 46
"""Width of the steel rail on either side, in pixels."""

LEAST_VISIBLE = 0.4
"""A good of which less than this share is in the frame has no truth box."""


@dataclass(frozen=True)
class Frame:
    """A rendered frame and what is on it.

    Attributes
    ----------
    pixels : (540, 960, 3) ndarray of uint8
    boxes : (N, 4) ndarray of float64
    classes : list of str
    burnt : list of bool
    """

    pixels: NDArray[np.uint8]
    boxes: Array
    classes: list[str]
    burnt: list[bool]


@dataclass(frozen=True)
class _Placed:
    name: str
    burnt: bool
    tile: Picture
    x: float
    y: float


def render_still(seed: int, again: bool = False) -> Frame:
    """One still of the belt.

    Parameters
    ----------
    seed : int
        The same seed gives the same frame, pixel for pixel.
    again : bool
        Photographed once more a moment later: the same goods in a little less light, with other grain.

    Returns
    -------
    Frame

    Examples
    --------
    >>> frame = render_still(3)
    >>> frame.pixels.shape, len(frame.boxes) == len(frame.classes)
    ((540, 960, 3), True)
    """
    generator = np.random.default_rng(seed)
    goods = _place_goods(generator, -60, HEIGHT + 60, int(generator.integers(7, 13)))
    belt = _belt_texture(generator)
    light = generator.uniform(0.8, 1.1)
    if again:
        return _compose(belt, goods, 0.0, 0.97 * light, np.random.default_rng([seed, 1]))
    return _compose(belt, goods, 0.0, light, generator)


class MovingBelt:
    """The belt moving down the picture; each frame can be rendered by itself.

    Parameters
    ----------
    seed : int
    frames : int
        How many there are.
    speed : float
        Pixels of belt travel between two frames.
    """

    def __init__(self, seed: int, frames: int, speed: float = 6.0) -> None:
        generator = np.random.default_rng(seed)
        travel = frames * speed
        self._goods = _place_goods(generator, -travel, HEIGHT, int(10 * (HEIGHT + travel) / HEIGHT))
        self._belt = _belt_texture(generator)
        self._light = generator.uniform(0.85, 1.05)
        self._seed, self._speed = seed, speed

    def frame(self, number: int) -> Frame:
        """A frame, counted from 0."""
        grain = np.random.default_rng([self._seed, number])
        return _compose(self._belt, self._goods, number * self._speed, self._light, grain)


def _place_goods(generator: np.random.Generator, top: float, bottom: float, count: int) -> list[_Placed]:
    placed: list[_Placed] = []
    taken: list[tuple[float, float, float]] = []
    for _ in range(count * 12):
        if len(placed) == count:
            break
        name = NAMES[int(generator.integers(len(NAMES)))]
        size = generator.uniform(78, 118) * (1.35 if name == "loaf" else 1.0)
        x, y = generator.uniform(RAIL + 40, WIDTH - RAIL - 40), generator.uniform(top, bottom)
        # Goods may touch and overlap a little, as they do on a real belt.
        if any(
            np.hypot(x - other_x, y - other_y) < 0.42 * (size + other) for other_x, other_y, other in taken
        ):
            continue
        burnt = bool(generator.random() < 0.12)
        tile = draw_good(name, size, generator.uniform(0, 360), burnt, generator)
        placed.append(_Placed(name, burnt, tile, x, y))
        taken.append((x, y, size))
    return placed


def _belt_texture(generator: np.random.Generator) -> NDArray[np.float32]:
    """One frame of mesh belt between rails, grey values 0 to 255, shape (HEIGHT, WIDTH, 3)."""
    rows = np.arange(HEIGHT, dtype=np.float32)[:, None]
    columns = np.arange(WIDTH, dtype=np.float32)[None, :]
    base = generator.uniform(58, 92)
    mesh = (
        base
        + 13 * np.sin(rows * (2 * np.pi / 12))
        + 9 * np.sin((columns + 6 * np.floor(rows / 12)) * (2 * np.pi / 15))
    )
    mesh += generator.normal(0, 4, mesh.shape)
    tint = np.array([1.0, generator.uniform(0.95, 1.0), generator.uniform(0.88, 0.98)], dtype=np.float32)
    return (mesh[..., None] * tint).astype(np.float32)


def _compose(
    belt: NDArray[np.float32],
    goods: list[_Placed],
    travel: float,
    light: float,
    generator: np.random.Generator,
) -> Frame:
    picture = Image.fromarray(np.clip(np.roll(belt, int(travel), axis=0), 0, 255).astype(np.uint8))
    boxes, classes, burnt = [], [], []
    for good in goods:
        left, top = round(good.x - good.tile.width / 2), round(good.y + travel - good.tile.height / 2)
        if top > HEIGHT or top + good.tile.height < 0:
            continue
        solid = good.tile.getchannel("A")
        shadow = Image.new("L", (good.tile.width + 24, good.tile.height + 24), 0)
        shadow.paste(solid.point(lambda alpha: alpha * 0.55), (12, 12))
        picture.paste((12, 12, 14), (left - 6, top - 4), shadow.filter(ImageFilter.GaussianBlur(5)))
        picture.paste(good.tile, (left, top), good.tile)
        whole = [left, top, left + good.tile.width, top + good.tile.height]
        if area(clip([whole], WIDTH, HEIGHT))[0] >= LEAST_VISIBLE * area([whole])[0]:
            boxes.append(whole)
            classes.append(good.name)
            burnt.append(good.burnt)
    pixels = np.asarray(picture, dtype=np.float32)
    pixels = _rails(pixels) * light
    pixels += generator.normal(0, 3.0, pixels.shape[:2])[..., None]
    return Frame(np.clip(pixels, 0, 255).astype(np.uint8), clip(boxes, WIDTH, HEIGHT), classes, burnt)


def _rails(pixels: NDArray[np.float32]) -> NDArray[np.float32]:
    """Steel rails and the lamp's fall-off towards the sides."""
    column = np.arange(WIDTH, dtype=np.float32)
    falloff = 1.0 - 0.28 * ((column - WIDTH / 2) / (WIDTH / 2)) ** 2
    lit = pixels * falloff[None, :, None]
    steel = 150 + 40 * np.sin(np.arange(RAIL, dtype=np.float32) / RAIL * np.pi)
    lit[:, :RAIL] = steel[None, :, None]
    lit[:, -RAIL:] = steel[None, ::-1, None] * 0.92
    return lit


class EndlessBelt:
    """A belt that moves down the picture for ever: after one round the same goods come again.

    Parameters
    ----------
    seed : int
    screens : int
        Length of a round in heights of the picture.
    speed : float
        Pixels of belt travel between two frames; a whole part of the round.
    """

    def __init__(self, seed: int, screens: int = 6, speed: float = 6.0) -> None:
        generator = np.random.default_rng(seed)
        self._length = float(screens * HEIGHT)
        # Nothing lies across the seam, where the round closes.
        self._goods = _place_goods(generator, HEIGHT - self._length + 80, HEIGHT - 80, 9 * screens)
        self._belt = _belt_texture(generator)
        self._light = generator.uniform(0.9, 1.0)
        self._seed, self._speed = seed, speed
        self.frames = round(self._length / speed)
        """Frames of a round."""

    def frame(self, number: int) -> Frame:
        """A frame, counted from 0, without end."""
        place = number % self.frames
        grain = np.random.default_rng([self._seed, place])
        ahead = [replace(each, y=each.y - self._length) for each in self._goods]
        return _compose(self._belt, self._goods + ahead, place * self._speed, self._light, grain)
