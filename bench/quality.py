"""What a person gets of a trained Stint: phantoms, scores that hold, on three unlike sets and three seeds."""

import sys
import tempfile
from pathlib import Path

import torch

from avocet.demo.goods import NAMES as GOODS
from avocet.demo.project import FIRST_SEED, PARTS
from avocet.detector.pictures.augmentation import Augmentation
from bench.digits import NAMES as DIGITS
from bench.digits import pictures
from bench.learning import SEEDS, labelled
from bench.picture_sets import PictureSet, measured, trained

UNSEEN_FRAMES, UNSEEN = 76, 40
UNSEEN_SEED = 50_000


def demo() -> PictureSet:
    """The 24 labelled frames of the belt: goods of much the same size."""
    (_, train), (_, held), _ = PARTS
    return PictureSet(
        list(GOODS),
        [labelled(FIRST_SEED + number) for number in range(train)],
        [labelled(FIRST_SEED + train + number) for number in range(held)],
        [labelled(UNSEEN_SEED + number) for number in range(UNSEEN_FRAMES)],
        side=416, batch=8, passes=5, epochs=22, augmentation=Augmentation(flips="all"),
    )  # fmt: skip


def digits() -> PictureSet:
    """Handwritten digits 24 to 64 pixels high."""
    made = pictures(0, 160, 80)
    return PictureSet(
        list(DIGITS), made[:160], made[160:200], made[200:], side=320, batch=16, passes=5, epochs=6,
        augmentation=Augmentation(flips="none", hue=20, saturation=0.3),
    )  # fmt: skip


def wide() -> PictureSet:
    """Handwritten digits of 12 to 300 pixels: every level has its own."""
    made = pictures(1, 160, 80, 416, wide=True)
    return PictureSet(
        list(DIGITS), made[:160], made[160:200], made[200:], side=416, batch=8, passes=2, epochs=9,
        augmentation=Augmentation(flips="none", hue=20, saturation=0.3),
    )  # fmt: skip


SETS = {"demo": demo, "digits": digits, "wide": wide}


def figures(chosen: PictureSet, seed: int, size: str = "stint") -> dict[str, float]:
    """Train from the shipped weights, and measure on pictures that were never seen."""
    with tempfile.TemporaryDirectory() as name:
        predictor, seconds = trained(chosen, seed, size, Path(name))
    return measured(predictor, chosen.names, chosen.unseen) | {"seconds": seconds}


def main(names: list[str] | None = None, seeds: tuple[int, ...] = SEEDS) -> None:
    """Print a line a set and seed; false boxes for every 100 truths."""
    print(f"Stint from the shipped weights, {torch.get_num_threads()} threads; false boxes for 100 truths")
    for name in names or list(SETS):
        chosen = SETS[name]()
        for seed in seeds:
            row = figures(chosen, seed)
            shown = ", ".join(
                f"{key} {value:.3f}" if value < 3 else f"{key} {value:.1f}" for key, value in row.items()
            )
            print(f"  {name} {seed}: {shown}", flush=True)


if __name__ == "__main__":
    main(sys.argv[1:2] or None, tuple(int(each) for each in sys.argv[2:]) or SEEDS)
