"""Scenes that the shipped starting weights learn from: coloured shapes on patterned grounds.

They have nothing of the demo's belt: no goods, no steel, no flour. Twenty shapes, solid ones and
such as a pen draws, each in any colour, pattern, size and direction, lie on grounds of noise,
stripes, checks, gradients and clouds, some over one another, some cut by an edge; light, blur and
grain differ from scene to scene. What shows less than two fifths of itself has no truth, as a person
would leave it out.
"""

import math

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFilter

SHAPES = (
    "disc", "oval", "square", "bar", "triangle", "pentagon", "star", "cross", "arrow", "moon", "frame", "wave",
    "hook", "zigzag", "spiral", "fork", "knot", "drop", "gear", "ladder",
)  # fmt: skip
FINE = 2
SMALLEST, LARGEST = 10.0, 0.85
"""Of a shape: pixels, and the share of the scene's side."""

LEAST_VISIBLE = 0.4
"""Of a shape's box, for there to be a truth."""


def render_scene(seed: int, side: int) -> tuple[NDArray[np.uint8], NDArray[np.float64], list[int]]:
    """A square scene: pixels, boxes as corners, and the number of each box's shape."""
    generator = np.random.default_rng([seed, 77])
    scene = Image.fromarray(_pattern(side, side, generator)).convert("RGB")
    boxes: list[list[float]] = []
    classes: list[int] = []
    for _ in range(int(generator.integers(2, 13))):
        shape = int(generator.integers(len(SHAPES)))
        size = float(np.exp(generator.uniform(math.log(SMALLEST), math.log(LARGEST * side))))
        mask = _shape(SHAPES[shape], size, generator)
        x = int(generator.integers(-mask.width * 3 // 4, side - mask.width // 4 + 1))
        y = int(generator.integers(-mask.height * 3 // 4, side - mask.height // 4 + 1))
        box = [max(0, x), max(0, y), min(side, x + mask.width), min(side, y + mask.height)]
        if _covers(box, boxes):
            continue
        tile = Image.fromarray(_pattern(mask.width, mask.height, generator))
        if generator.random() < 0.5:
            shade = Image.new("L", mask.size, 0)
            shade.paste(mask.point(lambda value: value // 2))
            dark = Image.new("RGB", mask.size, (10, 10, 10))
            offset = int(generator.integers(1, 6))
            scene.paste(dark, (x + offset, y + offset), shade.filter(ImageFilter.GaussianBlur(2)))
        scene.paste(tile, (x, y), mask)
        shown = (box[2] - box[0]) * (box[3] - box[1]) / (mask.width * mask.height)
        if shown >= LEAST_VISIBLE:
            boxes.append([float(value) for value in box])
            classes.append(shape)
    if generator.random() < 0.4:
        scene = scene.filter(ImageFilter.GaussianBlur(float(generator.uniform(0.3, 1.3))))
    pixels = np.asarray(scene, dtype=np.float32) * generator.uniform(0.55, 1.25)
    pixels = pixels + generator.normal(0, generator.uniform(0, 9), pixels.shape)
    return np.clip(pixels, 0, 255).astype(np.uint8), np.array(boxes).reshape(-1, 4), classes


def _covers(box: list[float], others: list[list[float]]) -> bool:
    for other in others:
        shared = max(0, min(box[2], other[2]) - max(box[0], other[0])) * max(
            0, min(box[3], other[3]) - max(box[1], other[1])
        )
        if shared > 0.2 * (other[2] - other[0]) * (other[3] - other[1]):
            return True
    return False


def _pattern(width: int, height: int, generator: np.random.Generator) -> NDArray[np.uint8]:
    """Two colours mixed by noise, stripes, checks, a gradient, clouds or not at all."""
    first, second = generator.uniform(0, 255, 3), generator.uniform(0, 255, 3)
    if generator.random() < 0.5:
        second = np.clip(first + generator.normal(0, 30, 3), 0, 255)
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    kind = generator.integers(6)
    angle = generator.uniform(0, math.pi)
    along = x * math.cos(angle) + y * math.sin(angle)
    period = generator.uniform(4, 40)
    if kind == 0:
        mix = np.full((height, width), generator.random())
    elif kind == 1:
        mix = (along - along.min()) / max(1.0, float(np.ptp(along)))
    elif kind == 2:
        mix = 0.5 + 0.5 * np.sin(along * 2 * math.pi / period)
    elif kind == 3:
        across = x * math.sin(angle) - y * math.cos(angle)
        mix = ((np.floor(along / period) + np.floor(across / period)) % 2).astype(np.float32)
    elif kind == 4:
        mix = _clouds(width, height, generator)
    else:
        coarse = Image.fromarray(
            (
                generator.random((max(2, int(height // period) + 2), max(2, int(width // period) + 2))) * 255
            ).astype(np.uint8)
        )
        mix = np.asarray(coarse.resize((width, height), Image.Resampling.BICUBIC), dtype=np.float32) / 255
    mixed = first[None, None] * (1 - mix[..., None]) + second[None, None] * mix[..., None]
    mixed += generator.normal(0, generator.uniform(0, 8), (height, width, 1))
    return np.clip(mixed, 0, 255).astype(np.uint8)


def _clouds(width: int, height: int, generator: np.random.Generator) -> NDArray[np.float32]:
    """Noise whose amplitude falls with its frequency, about as it does in photographs."""
    frequency = np.hypot(np.fft.fftfreq(height)[:, None], np.fft.rfftfreq(width)[None])
    frequency[0, 0] = 1
    waves = np.fft.rfft2(generator.normal(size=(height, width))) / frequency ** generator.uniform(0.8, 1.6)
    waves[0, 0] = 0
    mix = np.fft.irfft2(waves, s=(height, width))
    return np.clip(0.5 + 0.25 * mix / max(1e-9, float(mix.std())), 0, 1).astype(np.float32)


def _shape(name: str, size: float, generator: np.random.Generator) -> Image.Image:
    """A mask of the shape, turned anyhow and cut to its outline."""
    span = size * FINE
    canvas = round(span * 1.5) + 4
    centre, r = canvas / 2, span / 2
    mask = Image.new("L", (canvas, canvas), 0)
    draw = ImageDraw.Draw(mask)

    def around(count: int, radii: tuple[float, ...]) -> list[tuple[float, float]]:
        return [
            (centre + radii[i % len(radii)] * math.cos(2 * math.pi * i / count), centre + radii[i % len(radii)] * math.sin(2 * math.pi * i / count))
            for i in range(count)
        ]  # fmt: skip

    def rectangle(w: float, h: float, fill: int = 255) -> None:
        draw.rectangle((centre - w, centre - h, centre + w, centre + h), fill=fill)

    if name == "disc":
        draw.ellipse((centre - r, centre - r, centre + r, centre + r), fill=255)
    elif name == "oval":
        h = r * generator.uniform(0.4, 0.7)
        draw.ellipse((centre - r, centre - h, centre + r, centre + h), fill=255)
    elif name == "square":
        rectangle(r * 0.8, r * 0.8)
    elif name == "bar":
        rectangle(r, r * generator.uniform(0.15, 0.4))
    elif name == "triangle":
        draw.polygon(around(3, (r,)), fill=255)
    elif name == "pentagon":
        draw.polygon(around(5, (r,)), fill=255)
    elif name == "star":
        draw.polygon(around(10, (r, r * 0.45)), fill=255)
    elif name == "cross":
        arm = r * generator.uniform(0.2, 0.4)
        rectangle(r, arm)
        rectangle(arm, r)
    elif name == "arrow":
        draw.polygon([(centre + r, centre), (centre, centre - r * 0.7), (centre, centre + r * 0.7)], fill=255)
        draw.rectangle((centre - r, centre - r * 0.25, centre, centre + r * 0.25), fill=255)
    elif name == "moon":
        draw.ellipse((centre - r, centre - r, centre + r, centre + r), fill=255)
        shift = r * generator.uniform(0.5, 0.8)
        draw.ellipse((centre - r + shift, centre - r * 0.9, centre + r + shift, centre + r * 0.9), fill=0)
    elif name == "frame":
        rectangle(r * 0.9, r * 0.7)
        rectangle(r * 0.55, r * 0.4, fill=0)
    elif name == "drop":
        draw.ellipse((centre - r * 0.6, centre - r * 0.2, centre + r * 0.6, centre + r), fill=255)
        draw.polygon(
            [
                (centre, centre - r),
                (centre - r * 0.52, centre + r * 0.1),
                (centre + r * 0.52, centre + r * 0.1),
            ],
            fill=255,
        )
    elif name == "gear":
        draw.polygon(around(2 * int(generator.integers(6, 10)), (r, r, r * 0.7, r * 0.7)), fill=255)
        draw.ellipse((centre - r * 0.3, centre - r * 0.3, centre + r * 0.3, centre + r * 0.3), fill=0)
    else:
        pen = max(3, round(r * generator.uniform(0.12, 0.34)))
        for line in _lines(name, generator):
            points = [(centre + r * x, centre + r * y) for x, y in line]
            draw.line(points, fill=255, width=pen, joint="curve")
            for x, y in (points[0], points[-1]):
                draw.ellipse((x - pen / 2, y - pen / 2, x + pen / 2, y + pen / 2), fill=255)
    mask = mask.rotate(float(generator.uniform(0, 360)), resample=Image.Resampling.BILINEAR, expand=True)
    mask = mask.resize((max(1, mask.width // FINE), max(1, mask.height // FINE)), Image.Resampling.BOX)
    solid = mask.point(lambda alpha: 255 if alpha > 96 else 0).getbbox()
    return mask.crop(solid) if solid else mask


def _lines(name: str, generator: np.random.Generator) -> list[list[tuple[float, float]]]:
    """What a pen draws, within -1 to 1."""
    wide = generator.uniform(0.5, 0.9)

    def arc(radius: float, begin: float, end: float, x: float = 0, y: float = 0) -> list[tuple[float, float]]:
        return [
            (x + radius * math.cos(angle), y + radius * math.sin(angle))
            for angle in np.linspace(begin, end, 25)
        ]

    if name == "wave":
        return [[(-1 + t / 12, 0.3 * math.sin(t * math.pi / 6)) for t in range(25)]]
    if name == "hook":
        return [[(wide / 2, -0.9), *arc(wide / 2, 0, generator.uniform(0.8, 1.1) * math.pi, 0, 0.4)]]
    if name == "zigzag":
        count = int(generator.integers(3, 6))
        return [[(-0.9 + 1.8 * t / count, wide * (t % 2 - 0.5)) for t in range(count + 1)]]
    if name == "spiral":
        turns = generator.uniform(1.5, 2.2)
        return [
            [
                (
                    0.9 * t / 40 * math.cos(turns * t / 20 * math.pi),
                    0.9 * t / 40 * math.sin(turns * t / 20 * math.pi),
                )
                for t in range(3, 41)
            ]
        ]
    if name == "fork":
        joint = generator.uniform(-0.3, 0.2)
        return [[(0, 0.9), (0, joint)], [(-wide, -0.9), (0, joint), (wide, -0.9)]]
    if name == "knot":
        return [
            [(wide * math.sin(2 * t / 36 * math.pi), 0.9 * math.sin(4 * t / 36 * math.pi)) for t in range(37)]
        ]
    rungs = int(generator.integers(2, 5))
    half = wide * 0.7
    sides = [[(each, -0.9), (each, 0.9)] for each in (-half, half)]
    return sides + [[(-half, y), (half, y)] for y in np.linspace(-0.6, 0.6, rungs)]
