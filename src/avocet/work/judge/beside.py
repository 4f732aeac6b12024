"""Two models on the same pictures: how they differ, where, and whether by more than chance."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from avocet.core.errors import InputError
from avocet.core.score.bootstrap import Resampled, resample
from avocet.core.score.measurement import Measurement, match_pictures, sum_up
from avocet.core.score.paired import Difference, difference
from avocet.core.score.precision import COCO_THRESHOLDS
from avocet.work.judge.opened import LOWEST_SCORE, Measured
from avocet.work.snapshots.frozen import FrozenBox

SEED = 0


@dataclass(frozen=True)
class FigureCompared:
    """One figure of both models."""

    name: str
    first: float | None
    second: float | None
    low: float | None
    high: float | None
    more_than_chance: bool


@dataclass(frozen=True)
class PictureCompared:
    """Errors of both models in one picture."""

    picture_id: int
    name: str
    first_errors: int
    second_errors: int


@dataclass(frozen=True)
class SideBySide:
    """Two evaluations side by side.

    Attributes
    ----------
    words : str
        Whether the second is better, and whether by more than chance.
    figures : list of FigureCompared
        mAP at 0.50:0.95 and at 0.5, then each class at 0.5.
    pictures : list of PictureCompared
        Those in which one makes more errors, where they differ most first.
    both_right, only_first, only_second, neither : int
        Pictures without any error, by who makes none.
    """

    words: str
    figures: list[FigureCompared]
    pictures: list[PictureCompared]
    both_right: int
    only_first: int
    only_second: int
    neither: int


def put_side_by_side(
    first: Measured, second: Measured, minimum_score: float, overlap_limit: float
) -> SideBySide:
    """Compare two evaluations by a paired bootstrap over their pictures.

    Raises
    ------
    InputError
        If they were not measured on the same pictures with the same truths and classes.
    """
    if first.held_out != second.held_out or _labels(first) != _labels(second):
        raise InputError(
            f"{first.name} and {second.name} were not measured on the same pictures and labels, "
            "so their figures cannot be compared; measure both on the same snapshot"
        )
    if first.classes != second.classes:
        raise InputError(f"{first.name} and {second.name} were measured with other classes")
    (one, one_drawn), (two, two_drawn) = _drawn(first, overlap_limit), _drawn(second, overlap_limit)
    overall = difference(one_drawn.mean(), two_drawn.mean(), one.mean(), two.mean())
    figures = [
        _figure("mAP at 0.50:0.95", one.mean(), two.mean(), overall),
        _figure(
            "mAP at 0.5",
            one.mean(0.5),
            two.mean(0.5),
            difference(one_drawn.mean(0), two_drawn.mean(0), one.mean(0.5), two.mean(0.5)),
        ),
    ]
    for number, name in enumerate(first.classes):
        a, b = (float(each.average_precision[0, number, 0]) for each in (one, two))
        draws = [each.average_precision[0, number] for each in (one_drawn, two_drawn)]
        figures.append(_figure(name, a, b, difference(draws[0], draws[1], a, b)))
    pictures, counts = _pictures(first, second, minimum_score, overlap_limit)
    return SideBySide(in_words(first.name, second.name, overall), figures, pictures, *counts)


def in_words(first: str, second: str, found: Difference) -> str:
    """Whether a difference in mAP is more than chance, as a sentence."""
    if np.isnan(found.low):
        return "There is no truth to compare on."
    if found.amount == found.low == found.high == 0:
        return f"{first} and {second} find the same."
    low, high = found.low, found.high
    if found.more_than_chance:
        return (
            f"{second} measures {_signed(found.amount)} mAP at 0.50:0.95 against {first}, which is more than chance: "
            f"on other pictures of this kind the difference would lie between {_signed(low)} and {_signed(high)} "
            "in 95 of 100 cases."
        )
    better, share = (second, found.better) if found.amount >= 0 else (first, 1 - found.better)
    return (
        f"{second} measures {_signed(found.amount)} mAP against {first}, but that can be chance: on other pictures "
        f"of this kind {better} would come out ahead in {100 * share:.0f} of 100 cases. "
        "More pictures to measure on would tell."
    )


def _signed(value: float) -> str:
    """With its sign, a true minus among them: the same sign as in the table, where it is second less first."""
    return f"{value:+.3f}".replace("-", "−")


def _labels(measured: Measured) -> list[list[FrozenBox]]:
    return [picture.boxes for picture in measured.pictures]


@lru_cache(maxsize=8)
def _drawn(measured: Measured, overlap_limit: float) -> tuple[Measurement, Resampled]:
    """The same pictures are drawn for every model, as the seed is the same."""
    found = measured.found(LOWEST_SCORE, overlap_limit)
    matched = match_pictures(measured.truths, found, range(len(measured.classes)), COCO_THRESHOLDS)
    return sum_up(matched), resample(matched, np.random.default_rng(SEED))


def _figure(name: str, first: float, second: float, found: Difference) -> FigureCompared:
    def known(value: float) -> float | None:
        return None if np.isnan(value) else value

    return FigureCompared(
        name, known(first), known(second), known(found.low), known(found.high), found.more_than_chance
    )


def _pictures(
    first: Measured, second: Measured, minimum_score: float, overlap_limit: float
) -> tuple[list[PictureCompared], tuple[int, int, int, int]]:
    rows = zip(
        first.wall(minimum_score, overlap_limit), second.wall(minimum_score, overlap_limit), strict=True
    )
    compared = [
        PictureCompared(
            one["picture_id"], one["name"],
            one["misses"] + one["false_alarms"], two["misses"] + two["false_alarms"],
        )
        for one, two in rows
    ]  # fmt: skip
    right = [(each.first_errors == 0, each.second_errors == 0) for each in compared]
    counts = tuple(right.count(case) for case in ((True, True), (True, False), (False, True), (False, False)))
    differing = [each for each in compared if each.first_errors != each.second_errors]
    differing.sort(key=lambda each: (-abs(each.first_errors - each.second_errors), each.name))
    return differing, counts  # type: ignore[return-value]
