"""Target assignment: which cells and anchors answer for which truth."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, as_boxes, co_centred_iou, to_centre_size

ENOUGH_OVERLAP = 0.45
"""Every anchor whose co-centred IoU with a truth reaches this answers for it too."""


OVERLAP_AT_MIDDLE = 0.5
"""A neighbour of a truth's cell answers too where a box of the truth's size about its middle has this IoU."""

CORNER = np.array([[0, 0], [1, 0], [0, 1], [1, 1]])


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
    anchors: Sequence[Array],
    strides: Sequence[int],
    grid_sizes: Sequence[tuple[int, int]],
    enough_overlap: float = ENOUGH_OVERLAP,
    overlap_at_middle: float = OVERLAP_AT_MIDDLE,
) -> list[Targets]:
    """Assign truths to cells and anchors.

    A truth goes to its best anchor and to every anchor of enough co-centred IoU. Of each anchor's
    cells, those answer whose middle is a fair first guess: that of the truth's centre always, and of
    the three around its nearest corner (the decoding's reach of 2 brings all four onto the centre)
    those where a box of the truth's size, laid about the cell's middle, overlaps the truth enough.
    So a large object is learnt by several cells, each of which lies well inside of it, and a small
    one only by its own: a neighbour that sees more ground than object would learn to claim objects
    where it sees ground. Where two truths want the same place, the one whose size fits the anchor
    better gets it.

    Parameters
    ----------
    pictures : (M,) array_like of int
        Which picture of the batch each truth is in.
    boxes : (M, 4) array_like
        ``[x1, y1, x2, y2]`` in input pixels.
    classes : (M,) array_like of int
    anchors : sequence of (A, 2) ndarray
        Widths and heights in input pixels, level by level; a level may have none.
    strides : sequence of int
        Input pixels for one cell, level by level.
    grid_sizes : sequence of (int, int)
        Rows and columns of each level.
    enough_overlap : float
        Co-centred IoU of a truth and an anchor.
    overlap_at_middle : float
        IoU of a truth and its like about a neighbouring cell's middle.

    Returns
    -------
    list of Targets
        One a level.

    Examples
    --------
    >>> anchors = [np.array([[20.0, 20.0]]), np.array([[60.0, 60.0]])]
    >>> near, far = assign([0], [[4, 4, 20, 20]], [2], anchors, (8, 16), [(4, 4), (2, 2)])
    >>> np.stack([near.row, near.column], axis=1).tolist(), len(far.row)
    ([[1, 1]], 0)
    >>> near, far = assign([0], [[4, 1, 26, 23]], [2], anchors, (8, 16), [(4, 4), (2, 2)])
    >>> np.stack([near.row, near.column], axis=1).tolist(), len(far.row)
    ([[1, 1], [1, 2]], 0)
    """
    centres = to_centre_size(as_boxes(boxes))
    owner = np.asarray(pictures, dtype=np.int64).reshape(-1)
    labels = np.asarray(classes, dtype=np.int64).reshape(-1)
    every, ends = np.concatenate(anchors), np.cumsum([len(each) for each in anchors])
    fit = co_centred_iou(centres[:, 2:], every) if len(centres) else np.zeros((0, len(every)))
    answers = fit >= enough_overlap
    if len(centres):
        answers[np.arange(len(centres)), fit.argmax(axis=1)] = True
    return [
        _assign_level(
            answers[:, end - len(sizes) : end],
            fit[:, end - len(sizes) : end],
            owner,
            centres,
            labels,
            stride,
            grid,
            overlap_at_middle,
        )
        for sizes, end, stride, grid in zip(anchors, ends, strides, grid_sizes, strict=True)
    ]


def _assign_level(
    answers: NDArray[np.bool_],
    fit: Array,
    owner: NDArray[np.int64],
    centres: Array,
    labels: NDArray[np.int64],
    stride: int,
    grid: tuple[int, int],
    overlap_at_middle: float,
) -> Targets:
    rows, columns = grid
    truth, anchor = np.nonzero(answers)
    place = centres[truth, :2] / stride
    own = np.floor(place).astype(np.int64)
    # The nearest corner of a cell's own has four cells around it: in order (0, 0), (1, 0), (0, 1), (1, 1).
    nearer = np.where(place - own < 0.5, -1, 1)
    cell = own[None] + nearer[None] * CORNER[:, None]
    aside = np.abs(cell + 0.5 - place) * stride
    size = centres[truth, 2:]
    shared = np.maximum(size - aside, 0).prod(axis=-1)
    good = shared >= overlap_at_middle * (2 * size.prod(axis=-1) - shared)
    good[0] = True
    good &= ((cell >= 0) & (cell < (columns, rows))).all(axis=-1)
    which, each = np.nonzero(good)
    truth, anchor, column, row = truth[each], anchor[each], cell[which, each, 0], cell[which, each, 1]
    # One truth a place: sorted by place, then by fit; the last of each place wins.
    place_number = ((owner[truth] * answers.shape[1] + anchor) * rows + row) * columns + column
    order = np.lexsort((fit[truth, anchor], place_number))
    wins = np.ones(len(order), dtype=bool)
    wins[:-1] = place_number[order][1:] != place_number[order][:-1]
    chosen = order[wins]
    truth = truth[chosen]
    return Targets(owner[truth], anchor[chosen], row[chosen], column[chosen], centres[truth], labels[truth])
