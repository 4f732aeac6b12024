"""Whether objects lie in every direction, judged from the shapes of their boxes."""

import numpy as np
from numpy.typing import ArrayLike

ELONGATED = 1.25
"""A box whose longer side is this many times the shorter one shows a direction."""

ENOUGH_BOXES = 8
"""Elongated boxes of a class that are needed to say anything about it."""

RARER_DIRECTION = 0.25
"""Share of elongated boxes that must lie in the rarer of the two directions."""


def lie_in_every_direction(sizes: ArrayLike, classes: ArrayLike) -> bool:
    """Judge whether pictures may be turned and turned over without becoming unlike real ones.

    On a table or belt seen from above, an elongated object is boxed wide about as often as
    tall. Where gravity gives objects an upright position, each class leans one way. The answer
    is yes if at least one class shows both directions and none shows only one.

    Parameters
    ----------
    sizes : (N, 2) array_like
        Widths and heights of boxes, all above 0.
    classes : (N,) array_like of int

    Returns
    -------
    bool

    Examples
    --------
    >>> lie_in_every_direction([[20, 10], [10, 20]] * 10, [0] * 20)
    True
    >>> lie_in_every_direction([[10, 20]] * 20, [0] * 20)
    False
    """
    array = np.asarray(sizes, dtype=np.float64).reshape(-1, 2)
    labels = np.asarray(classes).reshape(-1)
    wide = array[:, 0] >= ELONGATED * array[:, 1]
    tall = array[:, 1] >= ELONGATED * array[:, 0]
    judged = False
    for label in np.unique(labels):
        directions = np.array([(wide & (labels == label)).sum(), (tall & (labels == label)).sum()])
        if directions.sum() < ENOUGH_BOXES:
            continue
        if directions.min() < RARER_DIRECTION * directions.sum():
            return False
        judged = True
    return judged
