"""What a training tells after each epoch."""

from collections.abc import Sequence
from dataclasses import dataclass

from avocet.core.score.precision import Precision


@dataclass(frozen=True)
class Validation:
    """What the averaged weights do on the validation pictures."""

    box: float
    objectness: float
    classes: float
    map50: float
    map: float
    by_class: dict[str, dict[str, float | int | None]]
    """AP at 0.5 and 0.50:0.95, truths, and boxes predicted above the minimum score."""
    minimum_score: float
    """Of best F1 at IoU 0.5, after calibration."""
    calibration: tuple[float, float, float] | None
    """Base and slopes of the map of scores; none where there was too little to fit it by, or none was wanted."""

    @property
    def loss(self) -> float:
        return self.box + self.objectness + self.classes


@dataclass(frozen=True)
class EpochReport:
    """One finished epoch."""

    epoch: int
    box: float
    objectness: float
    classes: float
    learning_rate: float
    pictures_per_second: float
    seconds: float
    validation: Validation
    best: bool

    @property
    def loss(self) -> float:
        return self.box + self.objectness + self.classes


def figures_by_class(
    measured: Precision, names: Sequence[str], predicted: Sequence[int]
) -> dict[str, dict[str, float | int | None]]:
    """AP at 0.5 and at 0.50:0.95, truths and predictions of each class; no AP without a truth."""
    figures: dict[str, dict[str, float | int | None]] = {}
    for index, name in enumerate(names):
        entry = measured.classes[index]
        known = entry.truths > 0
        figures[name] = {
            "ap50": float(entry.average_precision[0]) if known else None,
            "ap": float(entry.average_precision.mean()) if known else None,
            "truths": entry.truths,
            "predicted": int(predicted[index]),
        }
    return figures
