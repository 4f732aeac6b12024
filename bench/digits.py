"""Handwritten digits on photographs: a set unlike the demo, made here from bundled data.

scikit-learn brings the digits (1,797 of 8×8 pixels), scikit-image the photographs. 200 pictures of
320×320, of which 160 are learnt from and 40 are held out; no digit is in both.
"""

import tempfile
import time
from pathlib import Path

import numpy as np
import torch
from numpy.typing import NDArray
from PIL import Image
from skimage import data
from sklearn.datasets import load_digits

from avocet.core.detections import PictureTruth
from avocet.detector.model.predictor import Predictor
from avocet.detector.model.shipped import shipped_weights
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import Training
from avocet.work.judge.report import find_candidates, measure
from avocet.work.progress import Silent
from bench.learning import truths_in

SIDE, PICTURES, HELD_OUT = 320, 200, 40
STEPS, BATCH, PASSES = 500, 16, 5

NAMES = [str(digit) for digit in range(10)]
PHOTOGRAPHS = (
    "astronaut",
    "chelsea",
    "coffee",
    "rocket",
    "camera",
    "coins",
    "brick",
    "grass",
    "gravel",
    "moon",
)


def pictures(
    seed: int = 0,
    learnt: int = PICTURES - HELD_OUT,
    held_out: int = HELD_OUT,
    side: int = SIDE,
    wide: bool = False,
) -> list[LabelledPicture]:
    """Square pictures, the held-out ones last; digits 24 to 64 pixels high, or of any size from 12 to 300."""
    digits = load_digits()
    photographs = [_rgb(getattr(data, name)(), side) for name in PHOTOGRAPHS]
    random = np.random.default_rng(seed)
    order = random.permutation(len(digits.images))
    kept = round(len(order) * held_out / (learnt + held_out))
    made = []
    for number in range(learnt + held_out):
        own = order[:-kept] if number < learnt else order[-kept:]
        made.append(_picture(number, photographs, digits.images, digits.target, own, random, side, wide))
    return made


def _picture(
    number: int,
    photographs: list[NDArray[np.uint8]],
    images: NDArray[np.float64],
    targets: NDArray[np.int64],
    own: NDArray[np.int64],
    random: np.random.Generator,
    side: int,
    wide: bool,
) -> LabelledPicture:
    photograph = photographs[int(random.integers(len(photographs)))]
    height, width = photograph.shape[:2]
    y, x = int(random.integers(height - side + 1)), int(random.integers(width - side + 1))
    canvas = photograph[y : y + side, x : x + side].copy()
    boxes: list[list[int]] = []
    classes = []
    for _ in range(int(random.integers(3, 9))):
        chosen = int(random.choice(own))
        ink = images[chosen] / 16
        rows, columns = np.nonzero(ink.max(axis=1) > 0.2)[0], np.nonzero(ink.max(axis=0) > 0.2)[0]
        ink = ink[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
        scale = np.exp(random.uniform(*np.log((12, 300)))) / max(ink.shape) if wide else random.uniform(3, 8)
        size = (round(ink.shape[1] * scale), round(ink.shape[0] * scale))
        mask = Image.fromarray((ink * 255).astype(np.uint8)).resize(size, Image.Resampling.BICUBIC)
        left, top = int(random.integers(side - size[0])), int(random.integers(side - size[1]))
        box = [left, top, left + size[0], top + size[1]]
        if any(
            min(box[2], b[2]) > max(box[0], b[0]) and min(box[3], b[3]) > max(box[1], b[1]) for b in boxes
        ):
            continue
        under = canvas[top : box[3], left : box[2]]
        colour = np.array([255.0] * 3 if under.mean() < 128 else [0.0] * 3) + random.uniform(-50, 50, 3)
        strength = np.asarray(mask, dtype=np.float64)[..., None] / 255
        under[...] = np.clip(under * (1 - strength) + colour * strength, 0, 255).astype(np.uint8)
        boxes.append(box)
        classes.append(int(targets[chosen]))
    return LabelledPicture(
        f"digits {number}", side, side, lambda: canvas, PictureTruth(np.array(boxes), np.array(classes))
    )


def _rgb(pixels: NDArray[np.uint8], side: int) -> NDArray[np.uint8]:
    picture = Image.fromarray(pixels).convert("RGB")
    longer = max(side / min(picture.size), 1.0)
    return np.asarray(picture.resize((round(picture.width * longer), round(picture.height * longer))))


def main() -> None:
    """Train on the digits from the shipped weights, and print steps, seconds and precision."""
    made = pictures()
    training, held_out = made[:-HELD_OUT], made[-HELD_OUT:]
    print(
        f"Digits on photographs: {len(training)} learnt from, {HELD_OUT} held out, {SIDE} px, batch {BATCH}"
    )
    with tempfile.TemporaryDirectory() as name:
        settings = Settings(
            side=SIDE,
            batch=BATCH,
            passes=PASSES,
            epochs=STEPS * BATCH // (len(training) * PASSES),
            augmentation=Augmentation(flips="none", hue=20, saturation=0.3),
        )
        run = Training(settings, NAMES, training, held_out, Path(name))
        assert run.total_steps <= STEPS
        run.start_from(shipped_weights("stint"))
        started = time.perf_counter()
        run.run(lambda report: None)
        seconds = time.perf_counter() - started
        run.close()
        # The last epoch rather than the best one, which would be picked on these very pictures.
        figures = measure(
            NAMES,
            truths_in(held_out),
            find_candidates(Predictor.from_bundle(Path(name) / "latest.zip"), held_out, Silent()),
        )
    verdict = "reached" if figures["map50"] >= 0.93 else "NOT reached"
    print(
        f"  {run.total_steps} steps in {seconds:.0f} s on {torch.get_num_threads()} threads, "
        f"mAP {figures['map50']:.3f} at 0.5 (0.93 {verdict}), {figures['map']:.3f} at 0.50:0.95"
    )
