"""Scenes that Godwit's starting weights learn from: cut-outs laid on photographs, with the exact box of each.

Every cut-out is a class of its own, so that outputs have to tell kinds apart. Sizes, light, direction, blur, grain
and compression differ; what shows less than two fifths of itself is not laid.
"""

import io
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from photographs import around
from PIL import Image, ImageFilter

SMALLEST, LARGEST = 14.0, 0.8
"""Of a cut-out's longer side: pixels, and the share of the scene's."""

LEAST_SEEN = 0.4
"""Of an object, behind others or beyond the edge."""

KEPT_AT = 400
"""Pixels of the longer side that a cut-out is kept at: no scene shows more."""

Scene = tuple[NDArray[np.uint8], NDArray[np.float64], list[int]]


@dataclass(frozen=True)
class Sources:
    """Photographs to lay on, and what is laid, class by class."""

    photographs: list[Image.Image]
    cut_outs: list[Image.Image]


def made_small(photographs: list[Image.Image], cut_outs: list[Image.Image]) -> Sources:
    """The same, no larger than scenes need them."""
    for picture in photographs:
        picture.thumbnail((1280, 1280), Image.Resampling.LANCZOS)
    small = []
    for picture in cut_outs:
        kept = picture.crop(picture.getchannel("A").point(lambda value: 255 * (value > 127)).getbbox())
        kept.thumbnail((KEPT_AT, KEPT_AT), Image.Resampling.LANCZOS)
        small.append(kept)
    return Sources(photographs, small)


def photograph_part(of: Sources, side: int, random: np.random.Generator) -> Image.Image:
    """A square part of one of the photographs, mirrored or not."""
    picture = of.photographs[int(random.integers(len(of.photographs)))]
    width = int(min(picture.size) * random.uniform(0.35, 1))
    x, y = int(random.integers(picture.width - width + 1)), int(random.integers(picture.height - width + 1))
    part = picture.resize(
        (side, side), Image.Resampling.BILINEAR, (x, y, x + width, y + width), reducing_gap=2
    )
    return part.transpose(Image.Transpose.FLIP_LEFT_RIGHT) if random.random() < 0.5 else part


def photograph_scene(of: Sources, side: int, seed: int) -> Scene:
    """One square scene: pixels, boxes of what is seen as corners, and the class of each."""
    random = np.random.default_rng([seed, 37])
    canvas = np.asarray(photograph_part(of, side, random), dtype=np.float32).copy()
    owner = np.full((side, side), -1)
    whole: list[int] = []
    classes: list[int] = []
    # Some scenes have many small things, some a few of any size.
    largest = LARGEST * side if random.random() < 0.7 else 0.25 * side
    for _ in range(int(random.integers(1, 12))):
        chosen = int(random.integers(len(of.cut_outs)))
        values = _laid(
            of.cut_outs[chosen], float(np.exp(random.uniform(np.log(SMALLEST), np.log(largest)))), random
        )
        high, wide = values.shape[:2]
        x = int(random.integers(-wide // 3, side - 2 * wide // 3 + 1))
        y = int(random.integers(-high // 3, side - high * 2 // 3 + 1))
        solid = int((values[..., 3] > 127).sum())
        values = values[max(0, -y) : side - y, max(0, -x) : side - x]
        x, y, (high, wide) = max(0, x), max(0, y), values.shape[:2]
        share, under = values[..., 3:] / 255, owner[y : y + high, x : x + wide]
        shown = share[..., 0] > 0.5
        left = np.bincount(owner[owner >= 0], minlength=len(classes)) - np.bincount(
            under[shown & (under >= 0)], minlength=len(classes)
        )
        if shown.sum() < max(20, LEAST_SEEN * solid) or (left < LEAST_SEEN * np.array(whole)).any():
            continue
        region = canvas[y : y + high, x : x + wide]
        region[:] = region * (1 - share) + values[..., :3] * share
        under[shown] = len(classes)
        classes.append(chosen)
        whole.append(solid)
    boxes = [around(owner == number) for number in range(len(classes))]
    return _taken(canvas, random), np.array(boxes, dtype=float).reshape(-1, 4), classes


def _laid(cut_out: Image.Image, size: float, random: np.random.Generator) -> NDArray[np.float32]:
    """A cut-out at some size, light and direction."""
    if random.random() < 0.5:
        cut_out = cut_out.transpose(Image.Transpose.FLIP_LEFT_RIGHT)
    factor = size / max(cut_out.size)
    stretch = np.exp(random.uniform(-0.15, 0.15))
    shape = max(4, round(cut_out.width * factor * stretch)), max(4, round(cut_out.height * factor / stretch))
    turned = cut_out.resize(shape, Image.Resampling.BILINEAR, reducing_gap=2)
    if random.random() < 0.6:
        turned = turned.rotate(random.uniform(-35, 35), Image.Resampling.BILINEAR, expand=True)
    elif random.random() < 0.3:
        turned = turned.transpose(Image.Transpose.ROTATE_90)
    values = np.asarray(turned, dtype=np.float32).copy()
    solid = values[..., 3] > 127
    if solid.any():
        left, top, right, bottom = (int(each) for each in around(solid))
        values = values[top:bottom, left:right]
    values[..., :3] *= random.uniform(0.5, 1.3) * random.uniform(0.9, 1.1, 3)
    return values.clip(0, 255)


def _taken(canvas: NDArray[np.float32], random: np.random.Generator) -> NDArray[np.uint8]:
    """As a camera would have it: light, blur, grain, compression."""
    picture = Image.fromarray((canvas * random.uniform(0.6, 1.25)).clip(0, 255).astype(np.uint8))
    if random.random() < 0.5:
        picture = picture.filter(ImageFilter.GaussianBlur(random.uniform(0, 1.3)))
    if random.random() < 0.6:
        noise = random.normal(0, random.uniform(0, 9), canvas.shape)
        picture = Image.fromarray((np.asarray(picture, dtype=float) + noise).clip(0, 255).astype(np.uint8))
    if random.random() < 0.6:
        content = io.BytesIO()
        picture.save(content, "JPEG", quality=int(random.integers(40, 95)))
        picture = Image.open(content)
    return np.asarray(picture.convert("RGB"))
