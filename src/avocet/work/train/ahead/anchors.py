"""Anchors before a run: clusters, how well they fit, what changing one by hand does."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from avocet.core.boxes import Array, co_centred_iou
from avocet.core.errors import InputError
from avocet.core.raw.anchors import anchor_curve, mean_best_iou, share_poorly_fitted
from avocet.core.raw.levels import levels_of
from avocet.detector.model.sizes import STRIDES
from avocet.detector.targets.anchors import anchors_for, shown_sizes
from avocet.work.job_givens import LookAhead
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import AnchorFit, AnchorsClustered
from avocet.work.progress import Stopped
from avocet.work.train.ahead.look import look_at_labels
from avocet.work.train.ahead.run_labels import RunLabels

MOST_ANCHORS = 15
MOST_POINTS = 3000
"""Boxes that are drawn as points; where there are more, some drawn at random."""


Anchors = Sequence[Sequence[Sequence[float]]]


def fit_of(sizes: Array, anchors: Anchors) -> AnchorFit:
    """How well anchors fit box sizes: mean co-centred IoU with the best one, the share under 0.5, boxes of each.

    Raises `InputError` for unusable anchors.
    """
    array = np.array([size for level in anchors for size in level], dtype=np.float64).reshape(-1, 2)
    if not len(array) or not np.isfinite(array).all() or (array <= 0).any():
        raise InputError("every anchor needs a width and a height above 0")
    best = co_centred_iou(sizes, array).argmax(axis=1)
    held = np.bincount(best, minlength=len(array))
    ends = np.cumsum([len(level) for level in anchors])[:-1]
    return AnchorFit(
        mean_iou=mean_best_iou(sizes, array),
        poor=share_poorly_fitted(sizes, array),
        held=[each.tolist() for each in np.split(held, ends)],
    )


def anchor_effect(labels: RunLabels, side: int, anchors: Anchors) -> AnchorFit:
    """What anchors changed by hand would do."""
    return fit_of(_usable(labels.learnt_sizes(side)[0]), anchors)


def cluster_for_page(task: Task[LookAhead]) -> AnchorsClustered:
    """Anchors as a training would cluster them, the curve over their number, boxes to draw."""
    labels, settings = look_at_labels(task)
    reporter = task.reporter
    sizes, classes = labels.learnt_sizes(settings.side)
    usable = (sizes > 0).all(axis=1)
    sizes, classes = _usable(sizes), classes[usable]
    counts = range(1, MOST_ANCHORS + 1)
    curve: list[float] = []
    for count in counts:
        if reporter.should_stop():
            raise Stopped
        curve += anchor_curve(sizes, [count], np.random.default_rng(settings.seed))
        curve[-1] = max(curve)
        reporter.progress(count, MOST_ANCHORS + 1, f"{count} anchors")
    anchors = [
        [(round(float(w), 2), round(float(h), 2)) for w, h in level]
        for level in anchors_for(sizes, replace(settings, anchors=()))
    ]
    levels = levels_of(shown_sizes(sizes, settings), STRIDES)
    shown = np.random.default_rng(0).permutation(len(sizes))[:MOST_POINTS]
    return AnchorsClustered(
        side=settings.side,
        anchors=anchors,
        strides=list(STRIDES),
        by_level=np.bincount(levels, minlength=len(STRIDES)).tolist(),
        fit=fit_of(sizes, anchors),
        curve=[round(value, 5) for value in curve],
        boxes=len(sizes),
        points=[
            (round(float(w), 2), round(float(h), 2), int(label))
            for (w, h), label in zip(sizes[shown], classes[shown], strict=True)
        ],
        class_names=labels.names,
    )


def _usable(sizes: Array) -> Array:
    usable = sizes[(sizes > 0).all(axis=1)]
    if not len(usable):
        raise InputError("no labelled picture holds a box; draw some first")
    return usable
