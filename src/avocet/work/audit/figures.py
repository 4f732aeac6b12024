"""Figures of the labels: how many, of what, how large, where."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.detector.model.sizes import LEARNABLE, SIDES
from avocet.store.tables import Part, PictureState
from avocet.work.labels.columns import PARTS, STATES, LabelColumns

MOST_POINTS = 4000
PLACES = (32, 18)
"""Columns and rows of the grid that says where boxes lie."""


@dataclass(frozen=True)
class PartFigures:
    """A part of the split: pictures by state, boxes, and boxes of each class (by its id)."""

    pictures: int
    labelled: int
    empty: int
    boxes: int
    by_class: dict[int, int]


@dataclass(frozen=True)
class Figures:
    """Figures of a project's labels.

    Attributes
    ----------
    parts : dict of str to PartFigures
        By part; '' for pictures in none.
    boxes_a_picture : dict of int to int
        How many labelled pictures have so many boxes.
    points : list of (class id, width, height, picture id)
        In original pixels; an even choice where there are very many boxes.
    places : list of list of int
        Boxes' centres counted over the frame, rows from the top.
    small : dict of int to float
        For input sides: the share of boxes whose shorter side would be under `LEARNABLE` pixels.
    small_at : float
        The same at the chosen side.
    small_pictures : int
        Pictures with such a box.
    learnable : float
        Input pixels under which a box is too small.
    """

    parts: dict[str, PartFigures]
    boxes_a_picture: dict[int, int]
    points: list[tuple[int, float, float, int]]
    places: list[list[int]]
    small: dict[int, float]
    small_at: float
    small_pictures: int
    learnable: float


def figures(columns: LabelColumns, side: int, part: Part | None = None) -> Figures:
    """Figures of all labels, or of one part's, with small boxes counted at an input side."""
    chosen = columns if part is None else columns.of_pictures(columns.in_part(part))
    longer = chosen.sizes.max(axis=1, initial=1)[chosen.owner]
    sides = chosen.corners[:, 2:] - chosen.corners[:, :2]
    share = sides.min(axis=1, initial=np.inf) / longer
    under = share * side < LEARNABLE
    labelled = chosen.labelled
    boxes_in = np.bincount(chosen.owner, minlength=len(chosen.picture_ids))[labelled]
    counts, pictures = np.unique(boxes_in, return_counts=True)
    return Figures(
        parts={each.value if each else "": _part(columns, each) for each in PARTS},
        boxes_a_picture={int(count): int(number) for count, number in zip(counts, pictures, strict=True)},
        points=_points(chosen, sides),
        places=_places(chosen),
        small={each: _share(share * each < LEARNABLE) for each in SIDES},
        small_at=_share(under),
        small_pictures=len(np.unique(chosen.owner[under])),
        learnable=LEARNABLE,
    )


def _part(columns: LabelColumns, part: Part | None) -> PartFigures:
    inside = columns.in_part(part)
    boxes = inside[columns.owner]
    ids, counts = np.unique(columns.class_ids[boxes], return_counts=True)
    return PartFigures(
        pictures=int(inside.sum()),
        labelled=int((inside & columns.labelled).sum()),
        empty=int((inside & (columns.state == STATES.index(PictureState.EMPTY))).sum()),
        boxes=int(boxes.sum()),
        by_class={int(class_id): int(count) for class_id, count in zip(ids, counts, strict=True)},
    )


def _points(columns: LabelColumns, sides: Array) -> list[tuple[int, float, float, int]]:
    count = len(columns.owner)
    some = np.arange(count)
    if count > MOST_POINTS:
        some = np.linspace(0, count - 1, MOST_POINTS).astype(int)
    shown = np.round(sides[some], 1)
    pictures = columns.picture_ids[columns.owner[some]]
    return [
        (int(class_id), float(width), float(height), int(picture))
        for class_id, (width, height), picture in zip(columns.class_ids[some], shown, pictures, strict=True)
    ]


def _places(columns: LabelColumns) -> list[list[int]]:
    across, down = PLACES
    centres = (columns.corners[:, :2] + columns.corners[:, 2:]) / 2 / columns.sizes[columns.owner]
    counts, _, _ = np.histogram2d(centres[:, 1], centres[:, 0], bins=(down, across), range=((0, 1), (0, 1)))
    result: list[list[int]] = counts.astype(int).tolist()
    return result


def _share(flags: NDArray[np.bool_]) -> float:
    return round(float(flags.mean()), 4) if len(flags) else 0.0
