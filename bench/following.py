"""Following one object by what it looks like: on the demo's belt, and on one that makes it hard."""

import time
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array, area, clip, iou_of_pairs
from avocet.core.tracks.following import UNSURE, follow_object
from avocet.core.tracks.trajectory import few_boxes
from avocet.demo.belt import HEIGHT, WIDTH, MovingBelt
from avocet.demo.project import CLIP_RATE, CLIP_SECONDS, FIRST_SEED
from bench.harder_belt import BRIDGE, HarderBelt

AHEAD = 50
LEAST_IOU = 0.9
IN_SIGHT = 0.6
"""A good of which more is covered, or out of the picture, is not one that stays in sight."""


@dataclass
class Filmed:
    """Frames, where every good truly is (whole), and how much of it is seen."""

    name: str
    frames: list[NDArray[np.uint8]]
    boxes: Array
    seen: Array


def demo_clip() -> Filmed:
    """The clip that ships."""
    count = CLIP_SECONDS * CLIP_RATE
    belt = MovingBelt(FIRST_SEED - 1, count)
    boxes = []
    for number in range(count):
        row = []
        for good in belt._goods:
            left = round(good.x - good.tile.width / 2)
            top = round(good.y + number * belt._speed - good.tile.height / 2)
            row.append([left, top, left + good.tile.width, top + good.tile.height])
        boxes.append(row)
    whole = np.array(boxes, dtype=np.float64)
    return Filmed(
        "the demo's clip", [belt.frame(number).pixels for number in range(count)], whole, _seen(whole, False)
    )


def hard_clip(seed: int) -> Filmed:
    """Speed and light change, goods drift across one another, all of a kind look the same, a bridge covers some."""
    belt = HarderBelt(seed, 200, alike=True, dimming=0.4)
    true = [belt.frame(number) for number in range(200)]
    whole = np.array([each.boxes for each in true])
    return Filmed(f"hard, seed {seed}", [each.pixels for each in true], whole, _seen(whole, True))


def _seen(whole: Array, bridge: bool) -> Array:
    shares = []
    for boxes in whole:
        inside = clip(boxes, WIDTH, HEIGHT)
        covered = np.zeros(len(boxes))
        if bridge:
            rows = np.minimum(inside[:, 3], BRIDGE[1]) - np.maximum(inside[:, 1], BRIDGE[0])
            covered = rows.clip(0) * (inside[:, 2] - inside[:, 0]).clip(0)
        shares.append((area(inside) - covered) / area(boxes))
    return np.array(shares)


def starts(film: Filmed) -> Iterator[tuple[int, int]]:
    """A good and a frame for each that can be followed for a while: one on which it is seen whole."""
    random = np.random.default_rng(0)
    for good in range(film.boxes.shape[1]):
        whole = np.flatnonzero(film.seen[:, good] > 0.999)
        whole = whole[whole < len(film.frames) - 20]
        if len(whole) >= 10:
            yield good, int(random.choice(whole))


def measure(film: Filmed) -> None:
    """Print how well goods are followed."""
    right, bad, drifted, unmarked, marked, frames, few, took = [], 0, 0, 0, 0, 0, 0, 0.0
    for good, start in starts(film):
        numbers = range(start, min(start + AHEAD + 1, len(film.frames)))
        begun = time.perf_counter()
        found = list(follow_object((film.frames[number] for number in numbers), film.boxes[start, good]))
        took += time.perf_counter() - begun
        boxes = np.array([each.box for each in found])
        few += len(few_boxes(range(len(found)), boxes, LEAST_IOU)) if len(found) else 0
        for number, each in zip(numbers[1:], found, strict=False):
            frames += 1
            truth = clip(film.boxes[number], WIDTH, HEIGHT)
            overlap = float(iou_of_pairs([each.box], truth[good : good + 1])[0])
            others = np.delete(iou_of_pairs(np.tile(each.box, (len(truth), 1)), truth), good)
            sure = each.seen and each.sureness >= UNSURE
            if film.seen[number, good] >= IN_SIGHT:
                right.append(overlap)
                marked += not sure
            bad += sure and overlap < 0.5
            astray = overlap < 0.3 and others.max(initial=0.0) > 0.5
            drifted += astray
            unmarked += astray and sure
    print(
        f"  {film.name}: {len(list(starts(film)))} goods over {AHEAD} frames; mean IoU in sight {np.mean(right):.3f}, "
        f"5 % below {np.quantile(right, 0.05):.2f}; {drifted} frames on a neighbour, {unmarked} of them not marked unsure; "
        f"{bad} sure frames off by more than half; {100 * marked / len(right):.1f} % of frames in sight marked unsure; "
        f"{few / max(1, frames) * AHEAD:.1f} boxes for {AHEAD} frames; {frames / took:.0f} frames a second"
    )


def main() -> None:
    """Print all of it."""
    print("one object of 960 × 540, followed")
    measure(demo_clip())
    for seed in (11, 12, 13, 14):
        measure(hard_clip(seed))


if __name__ == "__main__":
    main()
