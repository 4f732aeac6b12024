"""Photographs: goods, kinds and small things, cut out and laid on photographs, with the exact box of each.

    python -m bench.photographs [CACHE] [SIZE] [TASK ...]

What is laid on what says `scripts/photographs.toml`; nothing of it was learnt from beforehand. A detector is trained
with what the page proposes and measured on pictures like those that it learnt from (new scenes on seen backgrounds),
on backgrounds that it never saw, and, for kinds, on individuals that it never saw.
"""

import io
import sys
import tempfile
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageFilter
from scripts.photographs import around, fetch, kept_backgrounds, kept_cut_outs

from avocet.core.detections import PictureTruth
from avocet.core.labels.orientation import lie_in_every_direction
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings, default_epochs, default_passes
from avocet.work.train.ahead.plan import advised_side
from bench.learning import SEEDS
from bench.picture_sets import PictureSet, measured, trained

CACHE = Path.home() / ".cache" / "avocet-photographs"
WIDTH, HEIGHT = 960, 640
TEST = 60
"""Pictures that each figure is measured on."""

LEAST_SEEN = 0.4
"""Of an object, behind others."""


@dataclass(frozen=True)
class Task:
    """What is to be found, how large its longer side is in pixels, how many a picture, and pictures to learn from."""

    kinds: str
    sizes: tuple[int, int]
    count: tuple[int, int]
    training: int
    validation: int


TASKS = {
    "goods 24": Task("goods", (32, 200), (4, 10), 24, 12),
    "kinds 24": Task("kinds", (50, 280), (2, 7), 24, 12),
    "kinds 80": Task("kinds", (50, 280), (2, 7), 80, 30),
    "small 24": Task("small", (14, 36), (20, 40), 24, 12),
}


@dataclass(frozen=True)
class Photographs:
    """Cut-outs of every class, and backgrounds to lay them on."""

    cut_outs: list[list[Image.Image]]
    grounds: list[Image.Image]


def scene(task: Task, of: Photographs, seed: int) -> tuple[NDArray[np.uint8], PictureTruth]:
    """One picture and what is seen of each object in it, whose box it gets."""
    random = np.random.default_rng([seed, 11])
    canvas = np.asarray(_part(of.grounds[int(random.integers(len(of.grounds)))], random), dtype=np.float32)
    canvas, owner = canvas.copy(), np.full((HEIGHT, WIDTH), -1)
    classes: list[int] = []
    for _ in range(int(random.integers(task.count[0], task.count[1] + 1))):
        chosen = int(random.integers(len(of.cut_outs)))
        individuals = of.cut_outs[chosen]
        values = _turned(individuals[int(random.integers(len(individuals)))], task.sizes, random)
        high, wide = values.shape[:2]
        x, y = int(random.integers(WIDTH - wide + 1)), int(random.integers(HEIGHT - high + 1))
        share, under = values[..., 3:] / 255, owner[y : y + high, x : x + wide]
        solid = share[..., 0] > 0.5
        before = np.bincount(owner[owner >= 0], minlength=len(classes))
        lost = np.bincount(under[solid & (under >= 0)], minlength=len(classes))
        if (before - lost < LEAST_SEEN * before).any():
            continue
        region = canvas[y : y + high, x : x + wide]
        region[:] = region * (1 - share) + values[..., :3] * share
        under[solid] = len(classes)
        classes.append(chosen)
    boxes = [around(owner == number) for number in range(len(classes))]
    return _camera(canvas, random), PictureTruth(
        np.array(boxes).reshape(-1, 4), np.array(classes, dtype=np.int64)
    )


def _part(ground: Image.Image, random: np.random.Generator) -> Image.Image:
    """A part of a background, a third to all of it."""
    share = random.uniform(0.35, 1) * min(ground.width / WIDTH, ground.height / HEIGHT)
    width, height = int(share * WIDTH), int(share * HEIGHT)
    x, y = int(random.integers(ground.width - width + 1)), int(random.integers(ground.height - height + 1))
    return ground.resize((WIDTH, HEIGHT), Image.Resampling.BICUBIC, (x, y, x + width, y + height))


def _turned(cut_out: Image.Image, sizes: tuple[int, int], random: np.random.Generator) -> NDArray[np.float32]:
    """A cut-out at some size, light and direction, cropped to what is solid of it."""
    if random.random() < 0.5:
        cut_out = cut_out.transpose(Image.Transpose.FLIP_LEFT_RIGHT)
    size = np.exp(random.uniform(*np.log(sizes)))
    factor = size / max(cut_out.size)
    shape = max(6, round(cut_out.width * factor)), max(6, round(cut_out.height * factor))
    turned = cut_out.resize(shape, Image.Resampling.LANCZOS).rotate(
        random.uniform(-30, 30), Image.Resampling.BICUBIC, expand=True
    )
    values = np.asarray(turned, dtype=np.float32).copy()
    left, top, right, bottom = around(values[..., 3] > 127)
    values = values[int(top) : int(bottom), int(left) : int(right)]
    values[..., :3] *= random.uniform(0.55, 1.25) * random.uniform(0.92, 1.08, 3)
    return values.clip(0, 255)


def _camera(canvas: NDArray[np.float32], random: np.random.Generator) -> NDArray[np.uint8]:
    """Light, blur, noise and compression."""
    picture = Image.fromarray((canvas * random.uniform(0.6, 1.2)).clip(0, 255).astype(np.uint8))
    blurred = np.asarray(picture.filter(ImageFilter.GaussianBlur(random.uniform(0, 1.8))), dtype=np.float32)
    noisy = blurred + random.normal(0, random.uniform(0, 10), blurred.shape)
    content = io.BytesIO()
    Image.fromarray(noisy.clip(0, 255).astype(np.uint8)).save(
        content, "JPEG", quality=int(random.integers(40, 95))
    )
    return np.asarray(Image.open(content))


def _same(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    return pixels


def pictures(task: Task, of: Photographs, first: int, count: int) -> list[LabelledPicture]:
    """So many scenes."""
    made = []
    for seed in range(first, first + count):
        pixels, truth = scene(task, of, seed)
        made.append(LabelledPicture(f"scene {seed}", WIDTH, HEIGHT, partial(_same, pixels), truth))
    return made


def task_set(task: Task, cache: Path) -> tuple[PictureSet, dict[str, list[LabelledPicture]]]:
    """Pictures to learn from as the page would propose it, and those to measure on, by what is new in them."""
    named = kept_cut_outs(cache, task.kinds)
    seen_grounds, new_grounds = (kept_backgrounds(cache, part) for part in ("seen", "new"))
    several = any(len(individuals) > 1 for individuals in named.values())
    known = [individuals[:-1] if several else individuals for individuals in named.values()]
    usual = Photographs(known, seen_grounds)
    training = pictures(task, usual, 0, task.training)
    validation = pictures(task, usual, 1000, task.validation)
    apart = {
        "as learnt": pictures(task, usual, 2000, TEST),
        "new backgrounds": pictures(task, Photographs(known, new_grounds), 3000, TEST),
    }
    if several:
        unknown = [individuals[-1:] for individuals in named.values()]
        apart["new individuals"] = pictures(task, Photographs(unknown, new_grounds), 4000, TEST)
    sizes = np.concatenate([each.boxes[:, 2:] - each.boxes[:, :2] for each in training]) / max(WIDTH, HEIGHT)
    classes = np.concatenate([each.classes for each in training])
    every = lie_in_every_direction(sizes, classes)
    passes = default_passes(task.training, task.validation)
    chosen = PictureSet(
        list(named), training, validation, apart["new backgrounds"], side=advised_side(sizes, max(WIDTH, HEIGHT)),
        batch=Settings().batch,
        passes=passes, epochs=default_epochs(task.training, passes),
        augmentation=Augmentation(flips="all" if every else "sideways"),
    )  # fmt: skip
    return chosen, apart


def main(cache: Path = CACHE, size: str = "stint", names: list[str] | None = None) -> None:
    """Print a line for each task, seed and set; false boxes for every 100 truths."""
    unknown = set(names or ()) - TASKS.keys()
    if unknown:
        sys.exit(f"there is no task {min(unknown)!r}; choose from {', '.join(TASKS)}")
    fetch(cache)
    for name in names or list(TASKS):
        chosen, apart = task_set(TASKS[name], cache)
        for seed in SEEDS:
            with tempfile.TemporaryDirectory() as folder:
                predictor, seconds = trained(chosen, seed, size, Path(folder))
            print(f"  {name}, {size}, side {chosen.side}, seed {seed}, {seconds:.0f} s", flush=True)
            for what, some in {"learnt from": chosen.training, **apart}.items():
                row = measured(predictor, chosen.names, some)
                print(
                    f"    {what}: {', '.join(f'{key} {value:.3f}' for key, value in row.items())}", flush=True
                )


if __name__ == "__main__":
    given = sys.argv[1:]
    main(Path(given[0]) if given else CACHE, given[1] if len(given) > 1 else "stint", given[2:] or None)
