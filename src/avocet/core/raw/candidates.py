"""What a detector proposes for one picture, before suppression."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, clip
from avocet.core.detections import PictureDetections
from avocet.core.raw.decode import Decoded
from avocet.core.raw.letterbox import Letterbox
from avocet.core.raw.suppression import suppress

MINIMUM_SCORE = 0.3
"""What detection uses where neither a person nor the model's own validation says otherwise."""

OVERLAP_LIMIT = 0.5
"""What suppression uses unless told otherwise."""

ScoreChange = Callable[[Array], Array]
"""A rising map of scores."""

EVERY_SCORE = 0.0

MEASURING_SCORE = 0.005
"""Our own detectors look down to this score when average precision is measured; that of others keep what they like."""

MOST_CANDIDATES = 1000
"""Candidates of one picture that suppression looks at, best first."""


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

    def after_suppression(self, minimum_score: ArrayLike, overlap_limit: float) -> PictureDetections:
        """What is left above a score, or above each class's own, of boxes of one class that overlap only the best."""
        least = np.asarray(minimum_score, dtype=np.float64)
        above = self.scores >= (least[self.classes] if least.ndim else least)
        boxes, scores, classes = self.boxes[above], self.scores[above], self.classes[above]
        kept = suppress(boxes, scores, overlap_limit, classes).kept
        return PictureDetections(boxes[kept], scores[kept], classes[kept])


def suppress_pictures(
    candidates: Sequence[Candidates], minimum_score: float, overlap_limit: float
) -> list[PictureDetections]:
    """What is left of each picture, as `Candidates.after_suppression`, for many pictures at once.

    Parameters
    ----------
    candidates : sequence of Candidates
    minimum_score, overlap_limit : float

    Returns
    -------
    list of PictureDetections

    Examples
    --------
    >>> one = Candidates(np.array([[0.0, 0, 10, 10], [0, 0, 10, 9]]), np.array([0.9, 0.8]), np.array([0, 0]))
    >>> [len(each.boxes) for each in suppress_pictures([one, one], 0.5, 0.5)]
    [1, 1]
    """
    counts = [len(each.scores) for each in candidates]
    scores = np.concatenate([np.zeros(0), *(each.scores for each in candidates)])
    above = np.flatnonzero(scores >= minimum_score)
    owner = np.repeat(np.arange(len(candidates)), counts)[above]
    boxes = np.concatenate([np.zeros((0, 4)), *(each.boxes for each in candidates)])[above]
    classes = np.concatenate([np.zeros(0, np.int64), *(each.classes for each in candidates)])[above]
    scores = scores[above]
    kept = suppress(boxes, scores, overlap_limit, owner * (int(classes.max(initial=0)) + 1) + classes).kept
    # Best score first within each picture, as `suppress` gives them.
    kept = kept[np.argsort(owner[kept], kind="stable")]
    ends = np.searchsorted(owner[kept], np.arange(1, len(candidates)))
    columns = [np.split(each[kept], ends) for each in (boxes, scores, classes)]
    return [PictureDetections(*each) for each in zip(*columns, strict=True)][: len(candidates)]


@dataclass(frozen=True)
class InPicture:
    """Every decoded box of a picture in the picture's own pixels, and how far it got.

    Attributes
    ----------
    boxes : (N, 4) ndarray of float64
        Cut to the picture.
    scores : (N,) ndarray of float64
        Of the likeliest class; calibrated where that is wanted.
    classes : (N,) ndarray of int64
    high_enough : (N,) ndarray of bool
        At or above the minimum score.
    visible : (N,) ndarray of bool
        With some area inside of the picture.
    chosen : (M,) ndarray of int64
        The best of those that are both, best first: what suppression looks at.
    """

    boxes: Array
    scores: Array
    classes: NDArray[np.int64]
    high_enough: NDArray[np.bool_]
    visible: NDArray[np.bool_]
    chosen: NDArray[np.int64]

    @property
    def candidates(self) -> Candidates:
        return Candidates(self.boxes[self.chosen], self.scores[self.chosen], self.classes[self.chosen])


def in_picture(
    decoded: Decoded,
    box: Letterbox,
    width: int,
    height: int,
    minimum_score: float,
    most: int = MOST_CANDIDATES,
    calibrated: ScoreChange | None = None,
) -> InPicture:
    """Bring decoded boxes back to the picture and choose the candidates among them.

    Parameters
    ----------
    decoded : Decoded
    box : Letterbox
        How the picture lay in the input.
    width, height : int
        Size of the original picture in pixels.
    minimum_score : float
        After ``calibrated``.
    most : int
    calibrated : callable, optional
        Maps scores to calibrated ones, in the same order.

    Returns
    -------
    InPicture

    Examples
    --------
    >>> from avocet.core.raw.decode import decode
    >>> from avocet.core.raw.letterbox import letterbox
    >>> decoded = decode([np.zeros((1, 6, 1, 1))], [[[16, 8]]], [32])
    >>> in_picture(decoded, letterbox(64, 64, 32), 64, 64, 0.2).candidates.boxes
    array([[16., 24., 48., 40.]])
    """
    all_scores = decoded.scores
    classes = all_scores.argmax(axis=1) if len(all_scores) else np.zeros(0, np.int64)
    scores = all_scores[np.arange(len(classes)), classes]
    if calibrated is not None:
        scores = calibrated(scores)
    boxes = clip(box.to_picture(decoded.boxes), width, height)
    high_enough = scores >= minimum_score
    visible = (boxes[:, 2] > boxes[:, 0]) & (boxes[:, 3] > boxes[:, 1])
    # What a network gone astray gives is no box; cut to the picture, an endless one would be all of it.
    visible &= np.isfinite(decoded.boxes).all(axis=1)
    order = np.flatnonzero(high_enough & visible)
    order = order[np.argsort(-scores[order], kind="stable")[:most]]
    return InPicture(boxes, scores, classes.astype(np.int64), high_enough, visible, order)
