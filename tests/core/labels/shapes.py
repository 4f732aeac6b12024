"""Shapes on grounds, with the exact box of each: what tightening is tried on."""

import numpy as np
from PIL import Image, ImageDraw

SHAPES = ("rectangle", "ellipse", "diamond", "star", "ring", "cross")
GROUNDS = ("plain", "noisy", "textured", "shaded")
FINE = 4
AROUND = 60


def cover(shape, width, height):
    """(H, W) share of each pixel that the shape covers; it touches all four edges."""
    wide, high = width * FINE, height * FINE
    drawing = Image.new("L", (wide, high), 0)
    draw = ImageDraw.Draw(drawing)
    if shape == "rectangle":
        draw.rectangle([0, 0, wide, high], fill=255)
    elif shape in ("ellipse", "ring"):
        draw.ellipse([0, 0, wide - 1, high - 1], fill=255)
        if shape == "ring":
            draw.ellipse([0.22 * wide, 0.22 * high, 0.78 * wide, 0.78 * high], fill=0)
    elif shape == "diamond":
        draw.polygon([(wide / 2, 0), (wide, high / 2), (wide / 2, high), (0, high / 2)], fill=255)
    elif shape == "star":
        angle, radius = np.arange(10) * np.pi / 5 - np.pi / 2, np.where(np.arange(10) % 2 == 0, 1, 0.45)
        x, y = radius * np.cos(angle), radius * np.sin(angle)
        points = zip((x - x.min()) / np.ptp(x) * wide, (y - y.min()) / np.ptp(y) * high, strict=True)
        draw.polygon(list(points), fill=255)
    else:
        draw.rectangle([0.34 * wide, 0, 0.66 * wide, high], fill=255)
        draw.rectangle([0, 0.34 * high, wide, 0.66 * high], fill=255)
    return np.asarray(drawing.resize((width, height), Image.Resampling.BOX), float) / 255


def scene(shape, ground, random, told_apart=True):
    """A picture of one shape, and its box. Without ``told_apart`` it has the colour of the ground."""
    width, height = (int(each) for each in random.integers(40, 180, 2))
    x, y = (int(each) for each in random.integers(AROUND - 15, AROUND + 15, 2))
    rows, columns = np.mgrid[: height + 2 * AROUND, : width + 2 * AROUND]
    base = random.uniform(60, 190, 3)
    own = random.uniform(20, 235, 3)
    while np.linalg.norm(own - base) < 70:
        own = random.uniform(20, 235, 3)
    behind, front = (np.broadcast_to(each, (*rows.shape, 3)).copy() for each in (base, own))
    if not told_apart:
        front = behind
    noise = {"noisy": 10.0, "textured": 4.0}.get(ground, 2.0)
    if ground == "textured":
        period = random.uniform(6, 16)
        across = np.sin((columns + 6 * np.floor(rows / period)) * 2 * np.pi / (period + 3))
        behind = behind + (13 * np.sin(rows * 2 * np.pi / period) + 9 * across)[..., None]
        front = behind if not told_apart else front
    if ground == "shaded":
        angle = random.uniform(0, 2 * np.pi)
        ramp = np.cos(angle) * (columns / columns.max() - 0.5) + np.sin(angle) * (rows / rows.max() - 0.5)
        light = (1 + ramp * random.uniform(0.3, 0.7))[..., None]
        behind, front = behind * light, front * light
    covered = np.zeros((*rows.shape, 1))
    covered[y : y + height, x : x + width, 0] = cover(shape, width, height)
    pixels = behind * (1 - covered) + front * covered
    pixels = (
        pixels + random.normal(0, noise, (*rows.shape, 1)) + random.normal(0, noise / 3, (*rows.shape, 3))
    )
    return np.clip(pixels, 0, 255).astype(np.uint8), np.array([x, y, x + width, y + height], float)
