"""Several networks that answer as one: their boxes are combined by fusion, or suppressed together."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.detections import PictureDetections
from avocet.core.raw.candidates import MEASURING_SCORE, OVERLAP_LIMIT, Candidates
from avocet.core.raw.fusion import FUSION_IOU, Method, fuse
from avocet.core.raw.suppression import suppress
from avocet.detector.model.finder import Finder


class EnsemblePredictor:
    """Finds what its members find, combined.

    Classes are matched by name; the ensemble knows those of all members. Each member suppresses
    its own duplicates first.

    Parameters
    ----------
    members : sequence of Finder
    weights : sequence of float
        How far each is trusted.
    overlap_limit : float
        IoU from which boxes of different members mean the same object.
    method : {'fusion', 'suppression'}
        Combine boxes that mean the same, or keep only the surest of them.
    """

    def __init__(
        self,
        members: Sequence[Finder],
        weights: Sequence[float],
        overlap_limit: float = FUSION_IOU,
        method: Method = "fusion",
    ) -> None:
        if len(members) != len(weights) or not members:
            raise ValueError(f"{len(members)} members and {len(weights)} weights do not match")
        self._members, self._weights, self._overlap_limit = list(members), list(weights), overlap_limit
        self._method = method
        self._classes = list(dict.fromkeys(name for member in members for name in member.classes))
        self._numbers = [
            np.array([self._classes.index(name) for name in member.classes], dtype=np.int64)
            for member in members
        ]

    @property
    def classes(self) -> list[str]:
        return self._classes

    @property
    def about(self) -> dict[str, Any]:
        """What results say of the model they come from."""
        members = [
            member.about | {"weight": weight}
            for member, weight in zip(self._members, self._weights, strict=True)
        ]
        about = {"size": "ensemble", "method": self._method, "classes": self._classes, "members": members}
        whites = {member["white"] for member in members if "white" in member}
        return about | ({"white": whites.pop()} if len(whites) == 1 else {})

    def candidates(self, pictures: Sequence[NDArray[np.uint8]], minimum_score: float) -> list[Candidates]:
        """Combined boxes of each picture at or above a score, best first.

        Weak boxes too have their say in fusion, whatever is asked for: the same boxes are found with every minimum score.
        """
        least = min(minimum_score, MEASURING_SCORE) if self._method == "fusion" else minimum_score
        found = [
            self._renumbered(member, numbers, pictures, least)
            for member, numbers in zip(self._members, self._numbers, strict=True)
        ]
        combined = []
        for several in zip(*found, strict=True):
            made = self._combined(several)
            high = made.scores >= minimum_score
            combined.append(Candidates(made.boxes[high], made.scores[high], made.classes[high]))
        return combined

    def _combined(self, several: Sequence[PictureDetections]) -> PictureDetections:
        if self._method == "fusion":
            return fuse(several, self._weights, self._overlap_limit).found
        boxes = np.concatenate([each.boxes for each in several])
        scores = np.concatenate([each.scores for each in several])
        classes = np.concatenate([each.classes for each in several])
        kept = suppress(boxes, scores, self._overlap_limit, classes).kept
        return PictureDetections(boxes[kept], scores[kept], classes[kept])

    @staticmethod
    def _renumbered(
        member: Finder,
        numbers: NDArray[np.int64],
        pictures: Sequence[NDArray[np.uint8]],
        minimum_score: float,
    ) -> list[PictureDetections]:
        made = []
        for each in member.candidates(pictures, minimum_score):
            kept = each.after_suppression(minimum_score, OVERLAP_LIMIT)
            made.append(PictureDetections(kept.boxes, kept.scores, numbers[kept.classes]))
        return made
