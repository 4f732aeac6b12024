"""Decoding: from the raw numbers of a detection head to boxes that know where they came from."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, from_centre_size
from avocet.core.logistic import sigmoid

LARGEST_LOG_SIZE = 6.0
"""Cap on t_w and t_h, so that an untrained network cannot overflow exp."""


@dataclass(frozen=True)
class Decoded:
    """Candidate boxes and their origin, ordered by level, row, column, anchor.

    Attributes
    ----------
    boxes : (N, 4) ndarray of float64
        ``[x1, y1, x2, y2]`` in network-input pixels.
    objectness : (N,) ndarray of float64
    class_probabilities : (N, C) ndarray of float64
    origin : (N, 4) ndarray of int64
        Level, row, column and anchor of each box.
    """

    boxes: Array
    objectness: Array
    class_probabilities: Array
    origin: NDArray[np.int64]

    @property
    def scores(self) -> Array:
        """Objectness times class probability, shape (N, C)."""
        return self.objectness[:, None] * self.class_probabilities


def decode(
    levels: Sequence[ArrayLike],
    anchors: Sequence[ArrayLike],
    strides: Sequence[int],
    reach: float = 2.0,
    minimum_objectness: float = 0.0,
) -> Decoded:
    """Decode raw head outputs of one picture.

    The formulas are those of the published anchor papers (Redmon and Farhadi, 2017 and 2018):
    centre = (cell + 0.5 + reach · (σ(t_xy) − 0.5)) · stride, size = anchor · exp(t_wh),
    score = σ(t_o) · σ(class logit). Reach 1 is the papers' form; with reach 2 a cell can
    answer for a centre in its neighbours.

    Parameters
    ----------
    levels : sequence of (A, 5 + C, H, W) array_like
        Raw outputs, one array a level; channels are t_x, t_y, t_w, t_h, t_o, class logits.
    anchors : sequence of (A, 2) array_like
        Widths and heights in input pixels, for each level; a level without any is not used.
    strides : sequence of int
        Input pixels for one cell, for each level.
    reach : float
        How many cells wide the range of a centre is.
    minimum_objectness : float
        Boxes below it are left out: their score cannot reach it either.

    Returns
    -------
    Decoded

    Raises
    ------
    ValueError
        If levels, anchors and strides do not belong together.

    Examples
    --------
    One cell, one anchor, one class; all raw numbers 0 give the anchor at the cell's centre:

    >>> decoded = decode([np.zeros((1, 6, 1, 1))], [[[16, 8]]], [32])
    >>> decoded.boxes
    array([[ 8., 12., 24., 20.]])
    >>> decoded.scores
    array([[0.25]])
    """
    if not len(levels) == len(anchors) == len(strides):
        raise ValueError(
            f"{len(levels)} levels, {len(anchors)} sets of anchors and {len(strides)} strides do not match"
        )
    parts = [
        _decode_level(
            np.asarray(raw, dtype=np.float64),
            np.asarray(sizes, dtype=np.float64).reshape(-1, 2),
            number,
            stride,
            reach,
            minimum_objectness,
        )
        for number, (raw, sizes, stride) in enumerate(zip(levels, anchors, strides, strict=True))
    ]
    return Decoded(
        boxes=np.concatenate([part.boxes for part in parts]),
        objectness=np.concatenate([part.objectness for part in parts]),
        class_probabilities=np.concatenate([part.class_probabilities for part in parts]),
        origin=np.concatenate([part.origin for part in parts]),
    )


def _decode_level(
    raw: Array, anchors: Array, number: int, stride: int, reach: float, minimum_objectness: float
) -> Decoded:
    if raw.ndim != 4 or raw.shape[0] != len(anchors) or raw.shape[1] < 6:
        raise ValueError(f"level {number} has shape {raw.shape}, not (anchors, 5 + classes, rows, columns)")
    objectness = sigmoid(raw[:, 4])
    # (row, column, anchor) order, so that candidates read like the picture.
    row, column, anchor = np.nonzero(np.moveaxis(objectness, 0, -1) >= minimum_objectness)
    values = raw[anchor, :, row, column]
    cell = np.stack([column, row], axis=1)
    centre = (cell + 0.5 + reach * (sigmoid(values[:, 0:2]) - 0.5)) * stride
    size = anchors[anchor] * np.exp(np.minimum(values[:, 2:4], LARGEST_LOG_SIZE))
    return Decoded(
        boxes=from_centre_size(np.concatenate([centre, size], axis=1)),
        objectness=objectness[anchor, row, column],
        class_probabilities=sigmoid(values[:, 5:]),
        origin=np.stack([np.full_like(row, number), row, column, anchor], axis=1),
    )
