"""Suppression of 10,000 boxes against the plain greedy loop, in one run, with identical results."""

import time

import numpy as np

from avocet.core.boxes import iou
from avocet.core.raw.suppression import suppress

BOXES = 10_000
ROUNDS = 5


def greedy(boxes: np.ndarray, scores: np.ndarray, limit: float, classes: np.ndarray) -> list[int]:
    """The plain loop: keep the best, drop what overlaps it, go on with the rest."""
    order = np.argsort(-scores, kind="stable")
    kept = []
    while len(order):
        best, order = order[0], order[1:]
        kept.append(int(best))
        near = (iou(boxes[[best]], boxes[order])[0] > limit) & (classes[order] == classes[best])
        order = order[~near]
    return kept


def scene(classes: int, huge: bool) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    random = np.random.default_rng(0)
    corner, side = random.uniform(0, 1800, (BOXES, 2)), random.uniform(15, 120, (BOXES, 2))
    boxes = np.hstack([corner, corner + side])
    if huge:
        boxes[0] = [-5000, -5000, 7000, 7000]
    return boxes, random.random(BOXES), random.integers(0, classes, BOXES)


def main() -> None:
    """Print seconds and the ratio, median of several rounds run in turn."""
    print(f"{BOXES} boxes, overlap limit 0.5, median of {ROUNDS} rounds in turn")
    for title, classes, huge in (
        ("one class", 1, False),
        ("one class, one huge box", 1, True),
        ("80 classes", 80, False),
    ):
        boxes, scores, labels = scene(classes, huge)
        ours, plain = [], []
        for _ in range(ROUNDS):
            started = time.perf_counter()
            result = suppress(boxes, scores, 0.5, labels)
            ours.append(time.perf_counter() - started)
            started = time.perf_counter()
            expected = greedy(boxes, scores, 0.5, labels)
            plain.append(time.perf_counter() - started)
            assert result.kept.tolist() == expected
        ratio = np.median(np.array(plain) / np.array(ours))
        print(
            f"  {title}: {1000 * np.median(ours):.1f} ms, plain loop {1000 * np.median(plain):.0f} ms, {ratio:.1f} times faster"
        )
