"""The boxes of several models on one picture: combined by fusion, and all together merely suppressed."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import as_boxes
from avocet.core.detections import PictureDetections
from avocet.core.errors import InputError
from avocet.core.raw.fusion import fuse
from avocet.core.raw.suppression import suppress
from avocet.work.job_outcomes import BoxesFound


@dataclass(frozen=True)
class CombinedBox:
    """A box, and of how many boxes it was made."""

    name: str
    corners: tuple[float, float, float, float]
    score: float
    members: int


@dataclass(frozen=True)
class Combined:
    """Both ways of combining, each with the surest first."""

    fused: list[CombinedBox]
    suppressed: list[CombinedBox]
    class_names: list[str]


def combine(
    found: BoxesFound, weights: Sequence[float], overlap_limit: float, minimum_score: float
) -> Combined:
    """Combine what `avocet.work.anatomy.find_boxes` has found.

    Raises
    ------
    InputError
        If there is not one weight for each model.
    """
    models = found.models
    if len(weights) != len(models):
        raise InputError(f"{len(models)} models need {len(models)} weights, not {len(weights)}")
    names = list(dict.fromkeys(name for model in models for name in model.classes))
    several = [
        PictureDetections(
            as_boxes(model.boxes),
            np.array(model.scores, np.float64),
            np.array([names.index(name) for name in model.classes], np.int64),
        )
        for model in models
    ]
    fused = fuse(several, weights, overlap_limit)
    made = np.bincount(fused.cluster, minlength=len(fused.found.boxes))
    boxes = np.concatenate([each.boxes for each in several])
    scores = np.concatenate([each.scores for each in several])
    classes = np.concatenate([each.classes for each in several])
    plain = suppress(boxes, scores, overlap_limit, classes)
    took = np.bincount(plain.suppressor[plain.suppressor >= 0], minlength=len(boxes)) + 1
    kept = plain.kept
    return Combined(
        _boxes(fused.found, made, names, minimum_score),
        _boxes(PictureDetections(boxes[kept], scores[kept], classes[kept]), took[kept], names, minimum_score),
        names,
    )


def _boxes(
    found: PictureDetections, members: NDArray[np.int64], names: Sequence[str], minimum_score: float
) -> list[CombinedBox]:
    return [
        CombinedBox(names[label], tuple(box), score, int(count))
        for box, score, label, count in zip(
            found.boxes.tolist(), found.scores.tolist(), found.classes.tolist(), members.tolist(), strict=True
        )
        if score >= minimum_score
    ]
