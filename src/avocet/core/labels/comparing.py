"""Comparing two labellings of one picture."""

from dataclasses import dataclass, field

import numpy as np
import scipy
from numpy.typing import ArrayLike

from avocet.core.boxes import as_boxes, iou

SAME_OBJECT = 0.3
"""IoU from which two boxes are taken to mean the same object."""


@dataclass(frozen=True)
class BoxChanges:
    """What became of the boxes of a picture.

    Attributes
    ----------
    added, gone : list of int
        Indices into the later, and into the earlier boxes.
    moved, relabelled : list of (int, int)
        Earlier and later index of one object; a box that was both moved and relabelled is in both.
    """

    added: list[int] = field(default_factory=list)
    gone: list[int] = field(default_factory=list)
    moved: list[tuple[int, int]] = field(default_factory=list)
    relabelled: list[tuple[int, int]] = field(default_factory=list)


def compare_boxes(
    before: ArrayLike, before_labels: ArrayLike, after: ArrayLike, after_labels: ArrayLike
) -> BoxChanges:
    """Tell which boxes were added, are gone, were moved or got another label.

    Boxes are paired so that the sum of their IoU is greatest (the assignment problem), where an
    equal label weighs more than any overlap; pairs below an IoU of 0.3 are none.

    Parameters
    ----------
    before, after : (N, 4) and (M, 4) array_like
    before_labels, after_labels : (N,) and (M,) array_like
        Numbers or names.

    Returns
    -------
    BoxChanges

    Examples
    --------
    >>> compare_boxes([[0, 0, 9, 9], [20, 0, 29, 9]], [1, 1], [[0, 0, 9, 8], [50, 0, 60, 9]], [1, 1])
    BoxChanges(added=[1], gone=[1], moved=[(0, 0)], relabelled=[])
    """
    old, new = as_boxes(before), as_boxes(after)
    old_labels, new_labels = np.asarray(before_labels), np.asarray(after_labels)
    overlaps = iou(old, new)
    same = old_labels[:, None] == new_labels[None] if len(old) and len(new) else np.zeros(overlaps.shape)
    worth = np.where(overlaps >= SAME_OBJECT, overlaps + same, 0.0)
    rows, columns = scipy.optimize.linear_sum_assignment(worth, maximize=True)
    pairs = [(int(i), int(j)) for i, j in zip(rows, columns, strict=True) if worth[i, j] > 0]
    first, second = {i for i, _ in pairs}, {j for _, j in pairs}
    return BoxChanges(
        added=[j for j in range(len(new)) if j not in second],
        gone=[i for i in range(len(old)) if i not in first],
        moved=[(i, j) for i, j in pairs if not np.array_equal(old[i], new[j])],
        relabelled=[(i, j) for i, j in pairs if old_labels[i] != new_labels[j]],
    )
