"""Anchors before a run: clusters, how well they fit, what changing one by hand does."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike
from sqlalchemy.orm import Session, sessionmaker

from avocet.core.anchors import anchor_curve, cluster_anchors, mean_best_iou, share_poorly_fitted
from avocet.core.boxes import Array, co_centred_iou
from avocet.core.errors import InputError
from avocet.detector.settings import settings_from
from avocet.detector.sizes import ANCHORS_PER_LEVEL, STRIDES
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.work.planning import box_sizes
from avocet.work.progress import Reporter, Stopped
from avocet.work.runs import labels_to_learn

MOST_ANCHORS = 15
MOST_POINTS = 3000
"""Boxes that are drawn as points; where there are more, some drawn at random."""


@dataclass(frozen=True)
class AnchorFit:
    """How well anchors fit the training boxes.

    Attributes
    ----------
    mean_iou : float
        Mean co-centred IoU of each box with its best anchor.
    poor : float
        Share of boxes whose best anchor is under 0.5.
    held : list of int
        Boxes that each anchor is the best for.
    """

    mean_iou: float
    poor: float
    held: list[int]


def fit_of(sizes: Array, anchors: ArrayLike) -> AnchorFit:
    """How well anchors fit box sizes. Raises `InputError` for unusable anchors."""
    array = np.asarray(anchors, dtype=np.float64).reshape(-1, 2)
    if not len(array) or not np.isfinite(array).all() or (array <= 0).any():
        raise InputError("every anchor needs a width and a height above 0")
    best = co_centred_iou(sizes, array).argmax(axis=1)
    held = np.bincount(best, minlength=len(array)).tolist()
    return AnchorFit(mean_best_iou(sizes, array), share_poorly_fitted(sizes, array), held)


def anchor_effect(
    session: Session,
    folder: DataFolder,
    project_id: int,
    side: int,
    anchors: Sequence[Sequence[float]],
    snapshot_id: int | None = None,
) -> AnchorFit:
    """What anchors changed by hand would do."""
    frozen, _ = labels_to_learn(session, folder, project_id, snapshot_id)
    return fit_of(_sizes(box_sizes(frozen, side)[0]), anchors)


def cluster_for_page(
    sessions: sessionmaker[Session], folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    """Anchors as a training would cluster them, the curve over their number, boxes to draw."""
    settings = settings_from(given["settings"])
    with reading(sessions)() as session:
        frozen, _ = labels_to_learn(session, folder, given["project_id"], given.get("snapshot_id"))
    sizes, labels = box_sizes(frozen, settings.side)
    usable = (sizes > 0).all(axis=1)
    sizes, labels = _sizes(sizes), labels[usable]
    varied = settings.augmentation
    seen = np.concatenate([sizes * factor for factor in (varied.scale_least, 1.0, varied.scale_most)])
    counts = range(1, MOST_ANCHORS + 1)
    curve: list[float] = []
    for count in counts:
        if reporter.should_stop():
            raise Stopped
        curve += anchor_curve(sizes, [count], np.random.default_rng(settings.seed))
        curve[-1] = max(curve)
        reporter.progress(count, MOST_ANCHORS + 1, f"{count} anchors")
    used = len(STRIDES) * ANCHORS_PER_LEVEL
    anchors = cluster_anchors(seen, used, np.random.default_rng(settings.seed), restarts=3)
    shown = np.random.default_rng(0).permutation(len(sizes))[:MOST_POINTS]
    return {
        "side": settings.side,
        "anchors": anchors.round(2).tolist(),
        "strides": list(STRIDES),
        "per_level": ANCHORS_PER_LEVEL,
        "fit": asdict(fit_of(sizes, anchors)),
        "curve": [round(value, 5) for value in curve],
        "boxes": len(sizes),
        "points": [
            [round(float(w), 2), round(float(h), 2), int(label)]
            for (w, h), label in zip(sizes[shown], labels[shown], strict=True)
        ],
        "class_names": frozen.classes,
    }


def _sizes(sizes: Array) -> Array:
    usable = sizes[(sizes > 0).all(axis=1)]
    if not len(usable):
        raise InputError("the training pictures hold no box; label some first")
    return usable
