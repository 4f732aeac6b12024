"""Sets of pictures to train a detector on, and what a person gets of it."""

import time
from dataclasses import dataclass
from pathlib import Path

from avocet.core.score.calibration import CALIBRATED_SCORE, reliability
from avocet.core.score.measurement import match_pictures
from avocet.core.score.operating import operating_curve
from avocet.detector.model.predictor import Predictor
from avocet.detector.model.shipped import shipped_weights
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import Training
from avocet.work.judge.report import find_candidates, measure
from avocet.work.progress import Silent
from bench.learning import truths_in


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


def trained(chosen: PictureSet, seed: int, size: str, folder: Path) -> tuple[Predictor, float]:
    """A detector trained in a folder from the shipped weights, and how many seconds that took."""
    settings = Settings(
        size=size, side=chosen.side, batch=chosen.batch, passes=chosen.passes, epochs=chosen.epochs, seed=seed,
        augmentation=chosen.augmentation,
    )  # fmt: skip
    run = Training(settings, chosen.names, chosen.training, chosen.validation, folder)
    run.start_from(shipped_weights(size))
    started = time.perf_counter()
    run.run(lambda report: None)
    seconds = time.perf_counter() - started
    run.close()
    return Predictor.from_bundle(folder / "best.zip"), seconds


def measured(predictor: Predictor, names: list[str], pictures: list[LabelledPicture]) -> dict[str, float]:
    """What a person gets on pictures; false boxes for every 100 truths."""
    truths = truths_in(pictures)
    candidates = find_candidates(predictor, pictures, Silent())
    precision = measure(names, truths, candidates)
    found = [each.after_suppression(0.005, 0.5) for each in candidates]
    matched = match_pictures(truths, found, range(len(names)), [0.5])
    scores, hits = matched.scores.clip(0, 1), matched.hit[0, 0]
    count = sum(len(each.boxes) for each in truths)
    curve = operating_curve(scores, hits, count)
    best = int(curve.f1.argmax())
    looked_at = scores >= CALIBRATED_SCORE
    told = getattr(predictor.card, "minimum_score", None) or 0.25
    return {
        "mAP 0.5": precision["map50"],
        "mAP": precision["map"],
        "false > 0.25": 100 * float((~hits & (scores > 0.25)).sum()) / count,
        "false > 0.5": 100 * float((~hits & (scores > 0.5)).sum()) / count,
        "best F1": float(curve.f1[best]),
        "at": float(curve.scores[best]),
        "calibration": reliability(scores[looked_at], hits[looked_at]).expected_error,
        "default": told,
        "false there": 100 * float((~hits & (scores >= told)).sum()) / count,
        "recall there": float((hits & (scores >= told)).sum()) / count,
    }
