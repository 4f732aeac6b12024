"""Stint on the demo's 24 training frames, from scratch and from the shipped weights."""

import tempfile
import time
from pathlib import Path

import numpy as np
import torch

from avocet.core.detections import PictureTruth
from avocet.core.labels.orientation import lie_in_every_direction
from avocet.demo.belt import HEIGHT, WIDTH, render_still
from avocet.demo.goods import NAMES
from avocet.demo.project import FIRST_SEED, PARTS
from avocet.detector.model.predictor import Predictor
from avocet.detector.model.shipped import shipped_weights
from avocet.detector.pictures.augmentation import Augmentation, Flips
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import Training
from avocet.work.judge.report import find_candidates, measure
from avocet.work.progress import Silent

SEEDS = (0, 1, 2)
STEPS, SHIPPED_STEPS, BATCH, PASSES = 330, 150, 8, 5
SOON = (15, 30, 45, 60, 90, 120)
"""Steps of whole trainings, rising: the fewest that are enough."""

UNSEEN_SEED, UNSEEN = 50_000, 40


def labelled(seed: int) -> LabelledPicture:
    frame = render_still(seed)
    classes = np.array([NAMES.index(name) for name in frame.classes], dtype=np.int64)
    pixels = frame.pixels
    return LabelledPicture(f"frame {seed}", WIDTH, HEIGHT, lambda: pixels, PictureTruth(frame.boxes, classes))


def truths_in(pictures: list[LabelledPicture]) -> list[PictureTruth]:
    """What there is to find in each picture."""
    return [each.truth for each in pictures]


def main() -> None:
    """Train with three seeds and print steps, seconds and precision."""
    (_, train), (_, held), _ = PARTS
    training = [labelled(FIRST_SEED + number) for number in range(train)]
    validation = [labelled(FIRST_SEED + train + number) for number in range(held)]
    unseen = [labelled(UNSEEN_SEED + number) for number in range(UNSEEN)]
    sizes = np.concatenate([picture.boxes[:, 2:] - picture.boxes[:, :2] for picture in training])
    classes = np.concatenate([picture.classes for picture in training])
    flips: Flips = "all" if lie_in_every_direction(sizes, classes) else "sideways"
    print(
        f"Stint on {train} frames, batch {BATCH}, {torch.get_num_threads()} threads; measured on {UNSEEN} unseen"
    )
    for shipped, steps in ((False, STEPS), (True, SHIPPED_STEPS)):
        print(f"  from {'the shipped weights' if shipped else 'scratch'}, {steps} steps")
        for seed in SEEDS:
            _train(seed, steps, shipped, flips, training, validation, unseen)
    print("  from the shipped weights, how soon")
    for steps in SOON:
        reached = [_train(seed, steps, True, flips, training, validation, unseen) for seed in SEEDS]
        if all(reached):
            print(f"  {steps} steps are enough for every seed")
            break


def _train(
    seed: int,
    steps: int,
    shipped: bool,
    flips: Flips,
    training: list[LabelledPicture],
    validation: list[LabelledPicture],
    unseen: list[LabelledPicture],
) -> bool:
    """Whether it came to an mAP of 0.95 at 0.5, which is told with steps and seconds."""
    with tempfile.TemporaryDirectory() as name:
        settings = Settings(
            epochs=steps * BATCH // len(training) // PASSES,
            passes=PASSES,
            batch=BATCH,
            seed=seed,
            augmentation=Augmentation(flips=flips),
        )
        run = Training(settings, NAMES, training, validation, Path(name))
        assert run.total_steps <= steps
        if shipped:
            run.start_from(shipped_weights("stint"))
        started = time.perf_counter()
        run.run(lambda report: None)
        seconds = time.perf_counter() - started
        run.close()
        predictor = Predictor.from_bundle(Path(name) / "best.zip")
        figures = measure(NAMES, truths_in(unseen), find_candidates(predictor, unseen, Silent()))
    verdict = "reached" if figures["map50"] >= 0.95 else "NOT reached"
    print(
        f"    seed {seed}: {run.total_steps} steps in {seconds:.0f} s, mAP {figures['map50']:.3f} at 0.5 "
        f"(0.95 {verdict}), {figures['map']:.3f} at 0.50:0.95",
        flush=True,
    )
    return bool(figures["map50"] >= 0.95)
