"""Scenes that the starting weights learn from: cut-outs of photographs and drawings laid on photographs.

Each cut-out is a class of its own, so that what is learnt has to tell many kinds of things apart. They are scaled,
mirrored, turned and lit anyhow, some hide part of others, some cast a shadow; light, colour, blur, noise and
compression differ from scene to scene. A box goes around what is seen of an object.
"""

import io
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageFilter

SMALLEST, LARGEST = 14.0, 0.8
"""Of an object's longer side: pixels, and the share of the scene's side."""

OBJECTS = (2, 11)
LEAST_INSIDE, LEAST_SEEN = 0.4, 0.5
"""Of an object: within the scene, and of that behind others."""

LEAST_REGION = 0.25
"""Of a photograph's shorter side that is shown."""

Pixels = NDArray[np.uint8]


def region(
    photograph: Image.Image, side: int, random: np.random.Generator, least: float = LEAST_REGION
) -> Image.Image:
    """A square part of a photograph, a quarter of its shorter side to all of it, so many pixels wide."""
    shorter = min(photograph.size)
    size = max(int(shorter * np.exp(random.uniform(np.log(least), 0))), min(shorter, side // 2))
    x = int(random.integers(photograph.width - size + 1))
    y = int(random.integers(photograph.height - size + 1))
    part = photograph.resize(
        (side, side), Image.Resampling.BILINEAR, box=(x, y, x + size, y + size), reducing_gap=2
    )
    return part.transpose(Image.Transpose.FLIP_LEFT_RIGHT) if random.random() < 0.5 else part


def seen_by_a_camera(pixels: Pixels, random: np.random.Generator) -> Pixels:
    """Blur, light, contrast, colour, noise and compression, each in some scenes."""
    picture = Image.fromarray(pixels)
    if random.random() < 0.3:
        picture = picture.filter(ImageFilter.GaussianBlur(float(random.uniform(0.3, 1.4))))
    values = np.asarray(picture).astype(np.float32)
    if random.random() < 0.7:
        values *= random.uniform(0.6, 1.3) * random.uniform(0.92, 1.08, 3).astype(np.float32)
    if random.random() < 0.3:
        middle = values.mean()
        values = (values - middle) * random.uniform(0.6, 1.3) + middle
    if random.random() < 0.15:
        grey = values.mean(axis=2, keepdims=True)
        values = grey + (values - grey) * random.uniform(0, 0.6)
    if random.random() < 0.4:
        values = values + random.normal(0, random.uniform(1, 10), values.shape).astype(np.float32)
    made = np.clip(values, 0, 255).astype(np.uint8)
    if random.random() < 0.3:
        content = io.BytesIO()
        Image.fromarray(made).save(content, "JPEG", quality=int(random.integers(25, 85)))
        made = np.asarray(Image.open(content))
    return made


def scene(
    seed: int, side: int, cut_outs: Sequence[Image.Image], grounds: Sequence[Image.Image]
) -> tuple[Pixels, NDArray[np.float64], list[int]]:
    """A square scene: pixels, boxes as corners, and the number of each one's cut-out."""
    random = np.random.default_rng([seed, 91])
    ground = grounds[int(random.integers(len(grounds)))]
    canvas = np.asarray(region(ground, side, random)).astype(np.float32).copy()
    owner = np.full((side, side), -1)
    classes: list[int] = []
    # Some scenes hold many of a few kinds, as most pictures do.
    few = random.integers(len(cut_outs), size=3) if random.random() < 0.3 else None
    for _ in range(int(random.integers(*OBJECTS))):
        chosen = int(random.integers(len(cut_outs)) if few is None else few[random.integers(3)])
        values = _varied(cut_outs[chosen], side, random)
        if values is not None and _laid(canvas, owner, len(classes), values, random):
            classes.append(chosen)
    boxes = [around(owner == number) for number in range(len(classes))]
    pixels = seen_by_a_camera(np.clip(canvas, 0, 255).astype(np.uint8), random)
    return pixels, np.array(boxes).reshape(-1, 4), classes


def around(mask: NDArray[np.bool_]) -> list[float]:
    """The box around what is true."""
    rows, columns = np.nonzero(mask.any(axis=1))[0], np.nonzero(mask.any(axis=0))[0]
    return [float(columns[0]), float(rows[0]), float(columns[-1] + 1), float(rows[-1] + 1)]


def _varied(cut_out: Image.Image, side: int, random: np.random.Generator) -> NDArray[np.float32] | None:
    """A cut-out at some size, aspect, direction and light; None where nothing of it is left."""
    if random.random() < 0.5:
        cut_out = cut_out.transpose(Image.Transpose.FLIP_LEFT_RIGHT)
    factor = np.exp(random.uniform(np.log(SMALLEST), np.log(LARGEST * side))) / max(cut_out.size)
    wider = np.exp(random.normal(0, 0.08))
    size = max(4, round(cut_out.width * factor * wider)), max(4, round(cut_out.height * factor / wider))
    made = cut_out.resize(size, Image.Resampling.BILINEAR, reducing_gap=2)
    kind = random.random()
    angle = random.uniform(-180, 180) if kind < 0.3 else random.normal(0, 10) if kind < 0.8 else 0
    if angle:
        made = made.rotate(angle, Image.Resampling.BILINEAR, expand=True)
    solid = made.getchannel("A").point(lambda alpha: 255 if alpha > 127 else 0).getbbox()
    if not solid or min(solid[2] - solid[0], solid[3] - solid[1]) < 4:
        return None
    values = np.asarray(made.crop(solid)).astype(np.float32).copy()
    if random.random() < 0.6:
        light = random.uniform(0.65, 1.35) * random.uniform(0.9, 1.1, 3)
        values[..., :3] = np.clip(values[..., :3] * light, 0, 255)
    return values


def _laid(
    canvas: NDArray[np.float32],
    owner: NDArray[np.int64],
    number: int,
    values: NDArray[np.float32],
    random: np.random.Generator,
) -> bool:
    """Lay an object somewhere, unless too little of it or of another would be seen; whether it was."""
    side = len(canvas)
    high, wide = values.shape[:2]
    x = int(random.integers(-wide // 3, side - wide * 2 // 3 + 1))
    y = int(random.integers(-high // 3, side - high * 2 // 3 + 1))
    left, top, right, bottom = max(0, x), max(0, y), min(side, x + wide), min(side, y + high)
    if min(right - left, bottom - top) < 4:
        return False
    part = values[top - y : bottom - y, left - x : right - x]
    share, solid = part[..., 3:] / 255, part[..., 3] > 127
    under = owner[top:bottom, left:right]
    before = np.bincount(owner[owner >= 0], minlength=number)
    hidden = np.bincount(under[solid & (under >= 0)], minlength=number)
    if (
        solid.sum() < LEAST_INSIDE * (values[..., 3] > 127).sum()
        or (before - hidden < LEAST_SEEN * before).any()
    ):
        return False
    if random.random() < 0.35:
        away = int(random.integers(1, max(2, min(high, wide) // 10)))
        shaded = canvas[top + away : bottom + away, left + away : right + away]
        shaded *= 1 - random.uniform(0.2, 0.55) * share[: shaded.shape[0], : shaded.shape[1]]
    lit = canvas[top:bottom, left:right]
    lit[:] = lit * (1 - share) + part[..., :3] * share
    under[solid] = number
    return True
