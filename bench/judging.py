"""What a slider of Judge asks for: counts of every picture and the confusion matrix of 5,000 pictures."""

import time
from collections.abc import Callable
from typing import Any

import numpy as np

from avocet.core.raw.candidates import Candidates
from avocet.work.judge.answers import confusion_of, mistakes_of
from avocet.work.judge.opened import Measured
from avocet.work.snapshots.frozen import FrozenPicture

PICTURES, CANDIDATES, CLASSES, ROUNDS = 5_000, 100, 80, 3
PART = 100
"""Pictures that are gone through one by one, for the ratio."""


def scene() -> Measured:
    """Truths, and candidates near them and of other classes."""
    random = np.random.default_rng(0)
    pictures, candidates = [], []
    for number in range(PICTURES):
        count = int(random.integers(3, 12))
        corner, side = random.uniform(0, 800, (count, 2)), random.uniform(30, 150, (count, 2))
        boxes, kinds = np.hstack([corner, corner + side]), random.integers(0, CLASSES, count)
        frozen = [(int(kind), *box, False) for kind, box in zip(kinds, boxes.tolist(), strict=True)]
        pictures.append(
            FrozenPicture(
                id=number + 1, name=f"{number}.jpg", content_hash="", suffix="", width=960, height=960,
                part=None, boxes=frozen,
            )
        )  # fmt: skip
        own = random.integers(0, count, CANDIDATES)
        found = boxes[own] + random.normal(0, 6, (CANDIDATES, 4))
        found[:, 2:] = np.maximum(found[:, 2:], found[:, :2] + 2)
        scores = np.sort(random.beta(0.5, 2, CANDIDATES))[::-1]
        other = random.integers(0, CLASSES, CANDIDATES)
        candidates.append(
            Candidates(found, scores, np.where(random.random(CANDIDATES) < 0.8, kinds[own], other))
        )
    return Measured("bench", [str(kind) for kind in range(CLASSES)], pictures, candidates)


def main() -> None:
    """Print seconds of each answer, and the ratio to going through the pictures one by one."""
    measured = scene()
    # Other thresholds each time, as when a slider moves.
    counts, matrix = [], []
    for number in range(ROUNDS):
        score = 0.25 + 0.01 * number
        counts.append(_seconds(lambda score=score: measured.wall(score, 0.5)))  # type: ignore[misc]
        matrix.append(_seconds(lambda score=score: confusion_of(measured, score, 0.5, 0.5)))  # type: ignore[misc]
    kinds = _seconds(lambda: mistakes_of(measured, 0.25, 0.5))
    one = _seconds(lambda: [measured.compare(index, 0.25, 0.5) for index in range(PART)]) / PART
    both = float(np.median(counts) + np.median(matrix))
    print(
        f"{PICTURES:,} pictures, {PICTURES * CANDIDATES:,} candidates, {CLASSES} classes, median of {ROUNDS}"
    )
    print(f"  counts and matrix at new thresholds {both:.2f} s (wanted: under 1 s),")
    print(f"  {one * PICTURES / both:.0f} times faster than one picture after the other")
    print(
        f"  one picture {1000 * one:.1f} ms (wanted: under 100 ms); kinds of error with their gains {kinds:.1f} s"
    )


def _seconds(work: Callable[[], Any]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started
