"""Boxes of many pictures in one list, so that all can be worked on at once."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array, area
from avocet.core.detections import PictureDetections, PictureTruth


@dataclass(frozen=True)
class Flat:
    """Boxes of all pictures in one list.

    Attributes
    ----------
    boxes : (N, 4) ndarray of float64
    scores : (N,) ndarray of float64
        0 for truths.
    owner : (N,) ndarray of int64
        Each box's picture.
    kind : (N,) ndarray of int64
        Place of its class among those that were asked for.
    group : (N,) ndarray of int64
        One number for picture and class.
    index : (N,) ndarray of int64
        Its place in the picture.
    flags, crowd : (N,) ndarray of bool
        Truths that do not count, crowds among them; and crowds.
    areas : (N,) ndarray of float64
        In square pixels.
    """

    boxes: Array
    scores: Array
    owner: NDArray[np.int64]
    kind: NDArray[np.int64]
    group: NDArray[np.int64]
    index: NDArray[np.int64]
    flags: NDArray[np.bool_]
    crowd: NDArray[np.bool_]
    areas: Array

    def some(self, chosen: NDArray[np.bool_] | NDArray[np.int64]) -> "Flat":
        """Those at some places."""
        return Flat(*(getattr(self, name)[chosen] for name in self.__dataclass_fields__))


def flatten(pictures: Sequence[PictureTruth] | Sequence[PictureDetections], ids: NDArray[np.int64]) -> Flat:
    """All boxes of the wanted classes.

    Parameters
    ----------
    pictures : sequence of PictureTruth or of PictureDetections
    ids : (K,) ndarray of int64
        Classes; boxes of others are left out.

    Returns
    -------
    Flat

    Examples
    --------
    >>> flat = flatten([PictureTruth([[0, 0, 1, 1], [0, 0, 2, 2]], [5, 7])], np.array([7]))
    >>> flat.boxes, flat.kind, flat.index
    (array([[0., 0., 2., 2.]]), array([0]), array([1]))
    """
    counts = np.array([len(each.boxes) for each in pictures], dtype=np.int64)
    owner = np.repeat(np.arange(len(pictures)), counts)
    boxes = np.concatenate([np.zeros((0, 4)), *(each.boxes for each in pictures)])
    classes = np.concatenate([np.zeros(0, np.int64), *(each.classes for each in pictures)])
    sort = np.argsort(ids, kind="stable")
    place = np.searchsorted(ids[sort], classes)
    place = np.minimum(place, len(ids) - 1) if len(ids) else np.zeros(len(classes), np.int64)
    kind = sort[place] if len(ids) else place
    wanted = (ids[kind] == classes) if len(ids) else np.zeros(len(classes), bool)
    none = np.zeros(len(boxes), dtype=bool)
    scores, flags, crowd, areas = np.zeros(len(boxes)), none, none, area(boxes)
    if pictures and isinstance(pictures[0], PictureDetections):
        scores = np.concatenate([each.scores for each in pictures])  # type: ignore[union-attr]
    elif pictures:
        crowd = np.concatenate([each.crowd for each in pictures])  # type: ignore[union-attr]
        flags = np.concatenate([each.ignored for each in pictures]) | crowd  # type: ignore[union-attr]
        areas = np.concatenate([each.areas for each in pictures])  # type: ignore[union-attr]
    ends = np.cumsum(counts, dtype=np.int64)
    index = np.arange(len(boxes)) - np.repeat(ends - counts, counts)
    flat = Flat(boxes, scores, owner, kind, owner * max(1, len(ids)) + kind, index, flags, crowd, areas)
    return flat.some(wanted)


def rank_in_group(group: NDArray[np.int64], scores: Array) -> NDArray[np.int64]:
    """Place of each detection in its group, by falling score; of equal scores the earlier comes first.

    Parameters
    ----------
    group : (D,) ndarray of int64
    scores : (D,) ndarray of float64

    Returns
    -------
    (D,) ndarray of int64

    Examples
    --------
    >>> rank_in_group(np.array([1, 1, 2]), np.array([0.2, 0.9, 0.5]))
    array([1, 0, 0])
    """
    order = np.lexsort((-scores, group))
    sorted_group = group[order]
    starts = (
        np.flatnonzero(np.concatenate([[True], sorted_group[1:] != sorted_group[:-1]]))
        if len(group)
        else order
    )
    lengths = np.diff(np.append(starts, len(group)))
    rank = np.empty(len(group), dtype=np.int64)
    rank[order] = np.arange(len(group)) - np.repeat(starts, lengths)
    return rank
