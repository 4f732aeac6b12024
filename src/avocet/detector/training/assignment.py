"""Target assignment: which cells and anchors answer for which truth."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, as_boxes, co_centred_iou, to_centre_size

ENOUGH_OVERLAP = 0.45
"""Every anchor whose co-centred IoU with a truth reaches this answers for it too."""


@dataclass(frozen=True)
class Targets:
    """Positives of one level in one batch.

    Attributes
    ----------
    picture, anchor, row, column : (P,) ndarray of int64
        Where in the raw output the positive is.
    boxes : (P, 4) ndarray of float64
        Centre and size of its truth in input pixels.
    classes : (P,) ndarray of int64
    """

    picture: NDArray[np.int64]
    anchor: NDArray[np.int64]
    row: NDArray[np.int64]
    column: NDArray[np.int64]
    boxes: Array
    classes: NDArray[np.int64]


def assign(
    pictures: ArrayLike,
    boxes: ArrayLike,
    classes: ArrayLike,
    anchors: Array,
    strides: Sequence[int],
    grid_sizes: Sequence[tuple[int, int]],
    enough_overlap: float = ENOUGH_OVERLAP,
) -> list[Targets]:
    """Assign truths to cells and anchors.

    A truth goes to its best anchor and to every anchor of enough co-centred IoU, each in the
    cell of its centre and in the two neighbours nearest to the centre (the decoding's reach of
    2 lets these answer). Where two truths want the same place, the one whose size fits the
    anchor better gets it.

    Parameters
    ----------
    pictures : (M,) array_like of int
        Which picture of the batch each truth is in.
    boxes : (M, 4) array_like
        ``[x1, y1, x2, y2]`` in input pixels.
    classes : (M,) array_like of int
    anchors : (L, A, 2) ndarray
        Widths and heights in input pixels, level by level.
    strides : sequence of int
        Input pixels for one cell, level by level.
    grid_sizes : sequence of (int, int)
        Rows and columns of each level.
    enough_overlap : float

    Returns
    -------
    list of Targets
        One a level.

    Examples
    --------
    >>> anchors = np.array([[[10.0, 10.0]], [[60.0, 60.0]]])
    >>> near, far = assign([0], [[4, 4, 15, 15]], [2], anchors, (8, 16), [(4, 4), (2, 2)])
    >>> np.stack([near.row, near.column], axis=1).tolist(), len(far.row)
    ([[0, 1], [1, 0], [1, 1]], 0)
    """
    centres = to_centre_size(as_boxes(boxes))
    owner = np.asarray(pictures, dtype=np.int64).reshape(-1)
    labels = np.asarray(classes, dtype=np.int64).reshape(-1)
    levels, per_level = anchors.shape[:2]
    fit = (
        co_centred_iou(centres[:, 2:], anchors.reshape(-1, 2))
        if len(centres)
        else np.zeros((0, levels * per_level))
    )
    answers = fit >= enough_overlap
    if len(centres):
        answers[np.arange(len(centres)), fit.argmax(axis=1)] = True
    return [
        _assign_level(
            answers[:, level * per_level : (level + 1) * per_level],
            fit[:, level * per_level : (level + 1) * per_level],
            owner,
            centres,
            labels,
            stride,
            grid,
        )
        for level, (stride, grid) in enumerate(zip(strides, grid_sizes, strict=True))
    ]


def _assign_level(
    answers: NDArray[np.bool_],
    fit: Array,
    owner: NDArray[np.int64],
    centres: Array,
    labels: NDArray[np.int64],
    stride: int,
    grid: tuple[int, int],
) -> Targets:
    rows, columns = grid
    truth, anchor = np.nonzero(answers)
    place = centres[truth, :2] / stride
    cell = np.floor(place).astype(np.int64)
    nearer = np.where(place - cell < 0.5, -1, 1)
    column = np.concatenate([cell[:, 0], cell[:, 0] + nearer[:, 0], cell[:, 0]])
    row = np.concatenate([cell[:, 1], cell[:, 1], cell[:, 1] + nearer[:, 1]])
    truth, anchor = np.tile(truth, 3), np.tile(anchor, 3)
    inside = (column >= 0) & (column < columns) & (row >= 0) & (row < rows)
    truth, anchor, row, column = truth[inside], anchor[inside], row[inside], column[inside]
    # One truth a place: sorted by place, then by fit; the last of each place wins.
    place_number = ((owner[truth] * answers.shape[1] + anchor) * rows + row) * columns + column
    order = np.lexsort((fit[truth, anchor], place_number))
    wins = np.ones(len(order), dtype=bool)
    wins[:-1] = place_number[order][1:] != place_number[order][:-1]
    chosen = order[wins]
    truth = truth[chosen]
    return Targets(owner[truth], anchor[chosen], row[chosen], column[chosen], centres[truth], labels[truth])
