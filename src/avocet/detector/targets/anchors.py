"""Anchors of a training: clustered from its boxes level by level, or chosen by hand."""

from collections.abc import Sequence

import numpy as np

from avocet.core.boxes import Array
from avocet.core.errors import InputError
from avocet.core.raw.letterbox import letterbox
from avocet.core.raw.levels import cluster_by_level
from avocet.detector.model.sizes import ANCHORS_PER_LEVEL, STRIDES
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings


def level_arrays(anchors: Sequence[Sequence[Sequence[float]]]) -> list[Array]:
    """Anchors level by level, as a card or settings hold them, as arrays.

    Parameters
    ----------
    anchors : sequence
        Of each level the pairs of width and height; a level may have none.

    Returns
    -------
    list of (A, 2) ndarray of float64

    Examples
    --------
    >>> [each.shape for each in level_arrays([[(8, 9)], []])]
    [(1, 2), (0, 2)]
    """
    return [np.array(level, dtype=np.float64).reshape(-1, 2) for level in anchors]


def input_sizes(pictures: Sequence[LabelledPicture], side: int) -> Array:
    """Widths and heights of all boxes that count, in input pixels.

    Parameters
    ----------
    pictures : sequence of LabelledPicture
    side : int

    Returns
    -------
    (N, 2) ndarray of float64
    """
    sizes = [np.zeros((0, 2))]
    for picture in pictures:
        boxes = letterbox(picture.width, picture.height, side).to_input(picture.boxes[~picture.ignored])
        sizes.append(boxes[:, 2:] - boxes[:, :2])
    joined = np.concatenate(sizes)
    return joined[(joined > 0).all(axis=1)]


def shown_sizes(sizes: Array, settings: Settings) -> Array:
    """Box sizes as training shows them: smaller, as they are, larger."""
    varied = settings.augmentation
    return np.concatenate([sizes * factor for factor in (varied.scale_least, 1.0, varied.scale_most)])


def anchors_for(sizes: Array, settings: Settings) -> list[Array]:
    """Anchors level by level, clustered from box sizes or as they were chosen by hand.

    Parameters
    ----------
    sizes : (N, 2) ndarray of float64
        Widths and heights in input pixels, all above 0.
    settings : Settings

    Returns
    -------
    list of (A, 2) ndarray of float64
        One a level, ordered by area; none for a level that is not used.

    Raises
    ------
    InputError
        If there is no box to cluster.

    Examples
    --------
    >>> anchors = anchors_for(np.array([[20.0, 24], [22, 20]]), Settings())
    >>> [len(each) for each in anchors]
    [3, 0, 0]
    """
    if not len(sizes):
        raise InputError("the training pictures hold no box; label some first")
    if settings.anchors:
        return level_arrays(settings.anchors)
    generator = np.random.default_rng(settings.seed)
    return cluster_by_level(shown_sizes(sizes, settings), STRIDES, ANCHORS_PER_LEVEL, generator, restarts=3)
