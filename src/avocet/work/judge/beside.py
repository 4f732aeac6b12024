"""Two models on the same pictures: how they differ, where, and whether by more than chance."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from avocet.core.errors import InputError
from avocet.core.raw.candidates import EVERY_SCORE
from avocet.core.score.chance.paired import Difference, difference
from avocet.core.score.chance.resampling import Resampled, resample
from avocet.core.score.chance.swapping import swap
from avocet.core.score.measurement import MatchedPictures, match_pictures
from avocet.core.score.precision import COCO_THRESHOLDS
from avocet.readable import signed
from avocet.work.judge.opened import Measured
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

    @property
    def verdict(self) -> str:
        """In words; nothing where one of the two has no such figure."""
        if self.more_than_chance:
            return "more than chance"
        if self.first is None or self.second is None:
            return ""
        return "too few to tell" if self.low is None else "can be chance"


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
    """Compare two evaluations on the same pictures: by how much they differ, and whether by chance.

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
    figures, overall = _compared(first, second, overlap_limit)
    pictures, counts = _pictures(first, second, minimum_score, overlap_limit)
    return SideBySide(in_words(first.name, second.name, overall), figures, pictures, *counts)


def in_words(first: str, second: str, found: Difference) -> str:
    """Whether a difference in mAP is more than chance, as a sentence."""
    if np.isnan(found.amount):
        return "There is no truth to compare on."
    if found.same:
        return f"{first} and {second} find the same."
    said = f"{second} measures {signed(found.amount)} mAP at 0.50:0.95 against {first}"
    if np.isnan(found.low):
        return f"{said}, but whether that is chance cannot be told from so few pictures."
    if found.more_than_chance:
        return (
            f"{said}, which is more than chance: had each answered in place of the other on pictures chosen by lot, "
            f"they would differ as much in {_times(found.chance)}. Over many such sets of pictures "
            f"the difference would lie between {signed(found.low)} and {signed(found.high)} in the mean."
        )
    better, share = (second, found.ahead) if found.amount >= 0 else (first, 1 - found.ahead)
    return (
        f"{said}, but that can be chance: on another set of as many such pictures {better} would come out "
        f"ahead about {min(95, round(20 * share) * 5)} times in 100. More pictures to measure on would tell."
    )


def _times(chance: float) -> str:
    return "less than 1 case of 100" if chance < 0.01 else f"{100 * chance:.0f} of 100 cases"


def _labels(measured: Measured) -> list[list[FrozenBox]]:
    return [picture.boxes for picture in measured.pictures]


@lru_cache(maxsize=8)
def _compared(
    first: Measured, second: Measured, overlap_limit: float
) -> tuple[list[FigureCompared], Difference]:
    """Every figure, and what is said of the first: the minimum score that a slider moves changes none of them."""
    (matched, one), (other_matched, two) = _drawn(first, overlap_limit), _drawn(second, overlap_limit)
    swapped = swap(matched, other_matched, np.random.default_rng(SEED))
    asked = [
        ("mAP at 0.50:0.95", None, None),
        ("mAP at 0.5", 0, None),
        *((name, 0, number) for number, name in enumerate(first.classes)),
    ]
    found = [difference(one, two, swapped, level, kind) for _, level, kind in asked]
    figures = [
        _figure(name, one.figure(level, kind), two.figure(level, kind), each)
        for (name, level, kind), each in zip(asked, found, strict=True)
    ]
    return figures, found[0]


@lru_cache(maxsize=8)
def _drawn(measured: Measured, overlap_limit: float) -> tuple[MatchedPictures, Resampled]:
    """Pictures weigh the same for every model, as the seed is the same."""
    found = measured.found(EVERY_SCORE, overlap_limit)
    matched = match_pictures(measured.truths, found, range(len(measured.classes)), COCO_THRESHOLDS)
    return matched, resample(matched, np.random.default_rng(SEED))


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
        first.wall(minimum_score, overlap_limit).pictures,
        second.wall(minimum_score, overlap_limit).pictures,
        strict=True,
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
