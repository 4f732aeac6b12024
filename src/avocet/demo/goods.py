"""Baked goods drawn from above: roll, croissant, loaf, pretzel, ring."""

import math
from collections.abc import Callable

import numpy as np
from PIL import Image, ImageChops, ImageDraw, ImageFilter
from PIL.Image import Image as Picture

NAMES = ("roll", "croissant", "loaf", "pretzel", "ring")

FINE = 2
"""Tiles are drawn this many times larger and shrunk, for smooth edges."""


def draw_good(name: str, size: float, angle: float, burnt: bool, generator: np.random.Generator) -> Picture:
    """Draw one good on a transparent tile cut to its outline.

    Parameters
    ----------
    name : str
        One of `NAMES`.
    size : float
        Longest extent in pixels before turning.
    angle : float
        Turn in degrees.
    burnt : bool
    generator : numpy.random.Generator
        Source of the crust's irregularities.

    Returns
    -------
    PIL.Image.Image
        RGBA; its sides are those of the good's box.

    Examples
    --------
    >>> tile = draw_good("loaf", 100, 0, False, np.random.default_rng(0))
    >>> tile.mode, abs(tile.width - 100) <= 3
    ('RGBA', True)
    """
    fine = size * FINE
    canvas = round(fine * 1.2)
    outline = Image.new("L", (canvas, canvas), 0)
    marks = Image.new("L", (canvas, canvas), 0)
    _SHAPES[name](ImageDraw.Draw(outline), ImageDraw.Draw(marks), canvas / 2, fine / 2, generator)
    crust = _crust(name, outline, burnt, generator)
    pale = Image.new("RGB", outline.size, _tone((232, 200, 150), 0.55 if burnt else 1.0, generator))
    marks = ImageChops.multiply(marks.filter(ImageFilter.GaussianBlur(FINE)), outline)
    crust.paste(pale, mask=marks)
    crust.putalpha(outline)
    turned = crust.rotate(angle, resample=Image.Resampling.BILINEAR, expand=True)
    small = turned.resize((max(1, turned.width // FINE), max(1, turned.height // FINE)), Image.Resampling.BOX)
    solid = small.getchannel("A").point(lambda alpha: 255 if alpha > 96 else 0).getbbox()
    return small.crop(solid) if solid else small


def _crust(name: str, outline: Picture, burnt: bool, generator: np.random.Generator) -> Picture:
    """Browned surface: darker towards the rim, with soft blotches."""
    base = {
        "roll": (206, 148, 84),
        "croissant": (212, 152, 76),
        "loaf": (176, 116, 62),
        "pretzel": (138, 78, 36),
        "ring": (220, 172, 104),
    }[name]
    depth = outline.filter(ImageFilter.GaussianBlur(outline.width * 0.06))
    light = np.asarray(depth, dtype=np.float32) / 255
    coarse = generator.normal(0, 0.09, (9, 9)).astype(np.float32)
    blotches = np.asarray(Image.fromarray(coarse).resize(outline.size, Image.Resampling.BICUBIC))
    shade = np.clip(0.45 + 0.62 * light**1.5 + blotches, 0.2, 1.2)[..., None]
    tone = np.array(_tone(base, 0.42 if burnt else 1.0, generator), dtype=np.float32)
    return Image.fromarray(np.clip(shade * tone, 0, 255).astype(np.uint8)).convert("RGBA")


def _tone(
    base: tuple[int, int, int], brightness: float, generator: np.random.Generator
) -> tuple[int, int, int]:
    shift = generator.normal(1, 0.05) * brightness
    red, green, blue = (int(np.clip(channel * shift * generator.normal(1, 0.02), 0, 255)) for channel in base)
    return red, green, blue


def _roll(
    outline: ImageDraw.ImageDraw,
    marks: ImageDraw.ImageDraw,
    centre: float,
    radius: float,
    generator: np.random.Generator,
) -> None:
    wobble = generator.uniform(0.86, 0.98)
    outline.ellipse(
        [centre - radius, centre - radius * wobble, centre + radius, centre + radius * wobble], fill=255
    )
    marks.line(
        [centre - radius * 0.6, centre, centre + radius * 0.6, centre], fill=210, width=round(radius * 0.14)
    )


def _loaf(
    outline: ImageDraw.ImageDraw,
    marks: ImageDraw.ImageDraw,
    centre: float,
    radius: float,
    generator: np.random.Generator,
) -> None:
    half = radius * generator.uniform(0.36, 0.46)
    outline.rounded_rectangle(
        [centre - radius, centre - half, centre + radius, centre + half], radius=half * 0.9, fill=255
    )
    for step in (-0.6, -0.2, 0.2, 0.6):
        x = centre + step * radius
        marks.line(
            [x - half * 0.25, centre + half * 0.6, x + half * 0.25, centre - half * 0.6],
            fill=220,
            width=round(radius * 0.07),
        )


def _croissant(
    outline: ImageDraw.ImageDraw,
    marks: ImageDraw.ImageDraw,
    centre: float,
    radius: float,
    generator: np.random.Generator,
) -> None:
    bend = generator.uniform(0.55, 0.75)
    points = []
    for side in (1.0, -1.0):
        for step in range(25):
            turn = math.pi * (step / 24 if side > 0 else 1 - step / 24)
            thick = radius * (0.12 + 0.26 * math.sin(turn))
            reach = radius * bend + side * thick * 0.9
            points.append(
                (
                    centre + math.cos(turn) * (radius * 0.9 if side > 0 else radius * 0.72),
                    centre + radius * 0.35 - math.sin(turn) * reach,
                )
            )
    outline.polygon(points, fill=255)
    for step in range(2, 9):
        turn = math.pi * step / 10
        x, y = centre + math.cos(turn) * radius * 0.8, centre + radius * 0.35 - math.sin(turn) * radius * bend
        lean = math.cos(turn) * radius * 0.25
        marks.line(
            [x - lean * 0.4, y + radius * 0.3, x + lean, y - radius * 0.3],
            fill=150,
            width=round(radius * 0.05),
        )


def _pretzel(
    outline: ImageDraw.ImageDraw,
    marks: ImageDraw.ImageDraw,
    centre: float,
    radius: float,
    generator: np.random.Generator,
) -> None:
    width = round(radius * generator.uniform(0.20, 0.25))
    points = []
    for step in range(81):
        turn = 2 * math.pi * step / 80
        # A closed knot: two loops at the top that cross, joined by the belly below.
        x = radius * 0.86 * math.sin(turn) * (1 - 0.3 * math.cos(turn * 2) ** 2)
        y = radius * (0.62 * math.cos(turn) + 0.22 * math.cos(3 * turn))
        points.append((centre + x, centre + y))
    outline.line([*points, points[0], points[1]], fill=255, width=width, joint="curve")
    for start, stop in (((-0.5, -0.35), (0.28, 0.62)), ((0.5, -0.35), (-0.28, 0.62))):
        ends = [(centre + x * radius, centre + y * radius) for x, y in (start, stop)]
        outline.line(ends, fill=255, width=round(width * 0.9))
    for x, y in generator.uniform(-0.6, 0.6, (26, 2)):
        dot = radius * 0.03
        marks.ellipse(
            [
                centre + x * radius - dot,
                centre + y * radius - dot,
                centre + x * radius + dot,
                centre + y * radius + dot,
            ],
            fill=255,
        )


def _ring(
    outline: ImageDraw.ImageDraw,
    marks: ImageDraw.ImageDraw,
    centre: float,
    radius: float,
    generator: np.random.Generator,
) -> None:
    hole = radius * generator.uniform(0.34, 0.44)
    outline.ellipse([centre - radius, centre - radius, centre + radius, centre + radius], fill=255)
    outline.ellipse([centre - hole, centre - hole, centre + hole, centre + hole], fill=0)
    for x, y in generator.normal(0, 0.45, (18, 2)):
        dot = radius * 0.05
        marks.ellipse(
            [
                centre + x * radius - dot,
                centre + y * radius - dot * 0.6,
                centre + x * radius + dot,
                centre + y * radius + dot * 0.6,
            ],
            fill=200,
        )


_Shape = Callable[[ImageDraw.ImageDraw, ImageDraw.ImageDraw, float, float, np.random.Generator], None]
_SHAPES: dict[str, _Shape] = {
    "roll": _roll,
    "croissant": _croissant,
    "loaf": _loaf,
    "pretzel": _pretzel,
    "ring": _ring,
}
