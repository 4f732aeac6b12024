"""Figures of the labels: how many, of what, how large, where."""

from collections import Counter
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.store.tables import Box, Part, Picture, PictureState
from avocet.work.projects import LABELLED, get_project

SMALL = 8.0
"""Boxes with a shorter side than this in input pixels are hardly learnt."""

SIDES = (224, 320, 416, 512, 640, 832, 1024, 1280)
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
        For input sides: the share of boxes whose shorter side would be under 8 pixels.
    small_at : float
        The same at the chosen side.
    small_pictures : int
        Pictures with such a box.
    """

    parts: dict[str, PartFigures]
    boxes_a_picture: dict[int, int]
    points: list[tuple[int, float, float, int]]
    places: list[list[int]]
    small: dict[int, float]
    small_at: float
    small_pictures: int


def figures(session: Session, project_id: int, side: int, part: Part | None = None) -> Figures:
    """Figures of all labels, or of one part's, with small boxes counted at an input side."""
    get_project(session, project_id)
    wanted = [Picture.project_id == project_id, Picture.binned_at.is_(None)]
    rows = session.execute(
        select(
            Box.class_id,
            Box.x1,
            Box.y1,
            Box.x2,
            Box.y2,
            Picture.width,
            Picture.height,
            Picture.part,
            Picture.id,
        )
        .join(Picture)
        .where(*wanted)
    ).all()
    parts = _parts(session, wanted, Counter((row[7], row[0]) for row in rows))
    kept = [row for row in rows if part is None or row[7] == part]
    table = np.array([[*row[:7], row[8]] for row in kept], dtype=np.float64).reshape(-1, 8)
    ratio = 1.0 / np.maximum(table[:, 5], table[:, 6]) if len(table) else np.zeros(0)
    shorter = np.minimum(table[:, 3] - table[:, 1], table[:, 4] - table[:, 2])
    under = shorter * ratio * side < SMALL
    per_picture = session.execute(
        select(Picture.box_count, func.count())
        .where(*wanted, Picture.state.in_(LABELLED), *([Picture.part == part] if part else []))
        .group_by(Picture.box_count)
    )
    return Figures(
        parts=parts,
        boxes_a_picture={count: pictures for count, pictures in per_picture},
        points=_points(table),
        places=_places(table),
        small={each: _share(shorter * ratio * each < SMALL) for each in SIDES},
        small_at=_share(under),
        small_pictures=len(np.unique(table[under, 7])),
    )


def _parts(
    session: Session, wanted: list, counts: Counter[tuple[Part | None, int]]
) -> dict[str, PartFigures]:
    states: dict[str, Counter[PictureState]] = {
        each: Counter() for each in ("training", "validation", "test", "")
    }
    query = (
        select(Picture.part, Picture.state, func.count()).where(*wanted).group_by(Picture.part, Picture.state)
    )
    for part, state, count in session.execute(query):
        states[part.value if part else ""][state] += count
    result = {}
    for name, by_state in states.items():
        by_class = {
            class_id: count
            for (part, class_id), count in counts.items()
            if (part.value if part else "") == name
        }
        result[name] = PartFigures(
            pictures=by_state.total(),
            labelled=sum(by_state[state] for state in LABELLED),
            empty=by_state[PictureState.EMPTY],
            boxes=sum(by_class.values()),
            by_class=by_class,
        )
    return result


def _points(table: NDArray[np.float64]) -> list[tuple[int, float, float, int]]:
    if len(table) > MOST_POINTS:
        table = table[np.linspace(0, len(table) - 1, MOST_POINTS).astype(int)]
    sides = np.round(table[:, 3:5] - table[:, 1:3], 1)
    return [
        (int(row[0]), float(width), float(height), int(row[7]))
        for row, (width, height) in zip(table, sides, strict=True)
    ]


def _places(table: NDArray[np.float64]) -> list[list[int]]:
    columns, rows = PLACES
    if not len(table):
        return np.zeros((rows, columns), int).tolist()
    x = (table[:, 1] + table[:, 3]) / 2 / table[:, 5]
    y = (table[:, 2] + table[:, 4]) / 2 / table[:, 6]
    counts, _, _ = np.histogram2d(y, x, bins=(rows, columns), range=((0, 1), (0, 1)))
    result: list[list[int]] = counts.astype(int).tolist()
    return result


def _share(flags: NDArray[np.bool_]) -> float:
    return round(float(flags.mean()), 4) if len(flags) else 0.0
