"""A picture of 8,000 by 6,000 pixels with goods of about twenty: how many are found with tiles and without."""

import time

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from avocet.core.boxes import Array
from avocet.core.raw.tiling import tiles_of
from avocet.core.score.matching import match
from avocet.demo.belt import render_still
from avocet.detector.model.predictor import Predictor
from avocet.work.use.running.looking import Looker, told
from avocet.work.use.running.order import DetectionOrder

WIDTH, HEIGHT = 8000, 6000

SMALLER = 0.36
"""Goods of the demo's belt, 24 to 146 pixels, are so many times as large in it."""


def large_picture(seed: int) -> tuple[NDArray[np.uint8], Array, list[str]]:
    """Many belts far away, with the box and the class of what lies on them."""
    generator = np.random.default_rng(seed)
    pixels = np.full((HEIGHT, WIDTH, 3), 90, np.uint8)
    scenes = [render_still(100_000 + seed * 100 + number) for number in range(24)]
    wide, high = round(960 * SMALLER), round(540 * SMALLER)
    small = [
        np.asarray(Image.fromarray(each.pixels).resize((wide, high), Image.Resampling.BOX)) for each in scenes
    ]
    boxes: list[Array] = []
    classes: list[str] = []
    for top in range(0, HEIGHT - high + 1, high + 9):
        for left in range(0, WIDTH - wide + 1, wide + 7):
            which = int(generator.integers(len(scenes)))
            pixels[top : top + high, left : left + wide] = small[which]
            boxes.append(scenes[which].boxes * SMALLER + [left, top, left, top])
            classes += scenes[which].classes
    return pixels, np.concatenate(boxes), classes


def large_pictures(predictor: Predictor) -> None:
    """Recall at IoU 0.5 with the right class, and false boxes, with tiles and without."""
    side = predictor.card.side
    for seed in range(2):
        pixels, truths, names = large_picture(seed)
        kinds = np.array([predictor.classes.index(each) for each in names])
        shorter = np.minimum(truths[:, 2] - truths[:, 0], truths[:, 3] - truths[:, 1])
        print(
            f"  {len(truths)} goods of {shorter.min():.0f} to {shorter.max():.0f} pixels, middle {np.median(shorter):.0f}"
        )
        for tile in (None, side):
            order = DetectionOrder.for_model(predictor.about, {"tile": tile})
            begun = time.perf_counter()
            row = Looker(predictor, order).look([pixels])[0]
            seconds = time.perf_counter() - begun
            found = told(row, {name: number for number, name in enumerate(predictor.classes)})
            hits = small_hits = 0
            for kind in range(len(predictor.classes)):
                mine, real = found.classes == kind, np.flatnonzero(kinds == kind)
                matched = match(found.boxes[mine], found.scores[mine], truths[real], [0.5])
                taken = matched.detection_of_truth[0] >= 0
                hits += int(taken.sum())
                small_hits += int(taken[shorter[real] <= 20].sum())
            tiles = 1 if tile is None else len(tiles_of(WIDTH, HEIGHT, tile))
            print(
                f"  {tiles} tiles: recall {hits / len(truths):.3f}, up to 20 pixels {small_hits / (shorter <= 20).sum():.3f}, "
                f"false {1 - hits / max(1, len(found.scores)):.3f} of the boxes, {seconds:.1f} s"
            )
