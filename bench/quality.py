"""What a person gets of a trained Stint: phantoms, scores that hold, on three unlike sets and three seeds."""

import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import torch

from avocet.core.score.calibration import CALIBRATED_SCORE, reliability
from avocet.core.score.measurement import match_pictures
from avocet.core.score.operating import operating_curve
from avocet.demo.goods import NAMES as GOODS
from avocet.demo.project import FIRST_SEED, PARTS
from avocet.detector.model.predictor import Predictor
from avocet.detector.model.shipped import shipped_weights
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import Training
from avocet.work.judge.report import find_candidates, measure
from avocet.work.progress import Silent
from bench.digits import NAMES as DIGITS
from bench.digits import pictures
from bench.learning import labelled, truths_in

SEEDS = (0, 1, 2)
UNSEEN_FRAMES, UNSEEN = 76, 40
UNSEEN_SEED = 50_000


@dataclass(frozen=True)
class PictureSet:
    """Pictures to learn from, to validate on and never seen, and how they are learnt from."""

    names: list[str]
    training: list[LabelledPicture]
    validation: list[LabelledPicture]
    unseen: list[LabelledPicture]
    side: int
    batch: int
    passes: int
    epochs: int
    augmentation: Augmentation


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
        settings = Settings(
            size=size, side=chosen.side, batch=chosen.batch, passes=chosen.passes, epochs=chosen.epochs, seed=seed,
            augmentation=chosen.augmentation,
        )  # fmt: skip
        run = Training(settings, chosen.names, chosen.training, chosen.validation, Path(name))
        run.start_from(shipped_weights(size))
        started = time.perf_counter()
        run.run(lambda report: None)
        seconds = time.perf_counter() - started
        run.close()
        predictor = Predictor.from_bundle(Path(name) / "best.zip")
    truths = truths_in(chosen.unseen)
    candidates = find_candidates(predictor, chosen.unseen, Silent())
    measured = measure(chosen.names, truths, candidates)
    found = [each.after_suppression(0.005, 0.5) for each in candidates]
    matched = match_pictures(truths, found, range(len(chosen.names)), [0.5])
    scores, hits = matched.scores.clip(0, 1), matched.hit[0, 0]
    count = sum(len(each.boxes) for each in truths)
    curve = operating_curve(scores, hits, count)
    best = int(curve.f1.argmax())
    looked_at = scores >= CALIBRATED_SCORE
    told = getattr(predictor.card, "minimum_score", None) or 0.25
    return {
        "mAP 0.5": measured["map50"],
        "mAP": measured["map"],
        "false > 0.25": 100 * float((~hits & (scores > 0.25)).sum()) / count,
        "false > 0.5": 100 * float((~hits & (scores > 0.5)).sum()) / count,
        "best F1": float(curve.f1[best]),
        "at": float(curve.scores[best]),
        "calibration": reliability(scores[looked_at], hits[looked_at]).expected_error,
        "default": told,
        "false there": 100 * float((~hits & (scores >= told)).sum()) / count,
        "recall there": float((hits & (scores >= told)).sum()) / count,
        "seconds": seconds,
    }


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
