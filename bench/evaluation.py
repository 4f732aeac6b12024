"""Average precision of a COCO-sized set, against the plain loop over pictures and classes on a part of it."""

import resource
import time

import numpy as np
from threadpoolctl import threadpool_limits

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.score.chance.resampling import RESAMPLES, resample
from avocet.core.score.matching import match
from avocet.core.score.measurement import area_ranges, match_pictures, measure_detections
from avocet.core.score.precision import COCO_THRESHOLDS

PICTURES, TRUTHS, DETECTIONS, CLASSES = 5_000, 36_000, 500_000, 80
PART = 100
"""Pictures that the plain loop matches, at all thresholds but for one area range."""


def scene() -> tuple[list[PictureTruth], list[PictureDetections]]:
    """Truths spread over pictures and classes; detections near them, and far."""
    random = np.random.default_rng(0)
    truths, found = [], []
    for picture in range(PICTURES):
        count = TRUTHS * (picture + 1) // PICTURES - TRUTHS * picture // PICTURES
        sides = np.exp(random.normal(4, 1, (count, 2)))
        corners = random.uniform(0, 500, (count, 2))
        boxes = np.hstack([corners, corners + sides])
        # A picture holds few classes, as photographs do.
        kinds = random.choice(random.choice(CLASSES, 4, replace=False), count)
        truths.append(PictureTruth(boxes, kinds, random.random(count) < 0.01))
        many = DETECTIONS // PICTURES
        chosen = random.integers(0, count, many)
        moved = boxes[chosen] + random.normal(0, 0.12, (many, 4)) * np.tile(sides[chosen], 2)
        moved[:, 2:] = np.maximum(moved[:, 2:], moved[:, :2] + 1)
        labels = np.where(random.random(many) < 0.6, kinds[chosen], random.integers(0, CLASSES, many))
        found.append(PictureDetections(moved, random.random(many), labels))
    return truths, found


def main() -> None:
    """Print seconds, memory, and the ratio to the plain loop for the same pictures."""
    truths, found = scene()
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with threadpool_limits(1):
        started = time.perf_counter()
        measured = measure_detections(
            truths, found, range(CLASSES), COCO_THRESHOLDS, area_ranges(), (1, 10, 100)
        )
        seconds = time.perf_counter() - started
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    started = time.perf_counter()
    for truth, detections in zip(truths[:PART], found[:PART], strict=True):
        for kind in range(CLASSES):
            mine, real = detections.classes == kind, truth.classes == kind
            match(
                detections.boxes[mine], detections.scores[mine], truth.boxes[real], COCO_THRESHOLDS,
                truth.ignored[real],
            )  # fmt: skip
    plain = (time.perf_counter() - started) * PICTURES / PART * len(area_ranges())
    print(
        f"{PICTURES:,} pictures, {TRUTHS:,} truths, {DETECTIONS:,} detections, {CLASSES} classes, ten IoUs, four areas"
    )
    print(
        f"  {seconds:.1f} s on one core (wanted: under 10 s), {(peak - before) / 1e6:.2f} GB more than the boxes themselves"
    )
    print(
        f"  mAP {measured.mean():.3f}; matching alone by the plain loop would take {plain:.0f} s, {plain / seconds:.0f} times as long"
    )
    matched = match_pictures(truths, found, range(CLASSES), COCO_THRESHOLDS)
    started = time.perf_counter()
    low, high = resample(matched, np.random.default_rng(0)).interval()
    drawn = time.perf_counter() - started
    print(
        f"  {RESAMPLES:,} resamples of the pictures: {drawn:.1f} s (wanted: under 30 s), mAP {low:.4f} to {high:.4f}"
    )
