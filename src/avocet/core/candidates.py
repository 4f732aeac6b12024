"""What a detector proposes for one picture, before suppression."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.core.detections import PictureDetections
from avocet.core.suppression import suppress


@dataclass(frozen=True)
class Candidates:
    """Boxes of one picture before suppression, best score first.

    Attributes
    ----------
    boxes : (N, 4) ndarray of float64
        ``[x1, y1, x2, y2]`` in pixels of the original picture, cut to it.
    scores : (N,) ndarray of float64
    classes : (N,) ndarray of int64
        The likeliest class of each.
    """

    boxes: Array
    scores: Array
    classes: NDArray[np.int64]

    def after_suppression(self, minimum_score: float, overlap_limit: float) -> PictureDetections:
        """What is left above a score, of boxes of one class that overlap only the best."""
        above = self.scores >= minimum_score
        boxes, scores, classes = self.boxes[above], self.scores[above], self.classes[above]
        kept = suppress(boxes, scores, overlap_limit, classes).kept
        return PictureDetections(boxes[kept], scores[kept], classes[kept])
