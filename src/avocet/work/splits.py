"""Which pictures are for training, for validation and for the test."""

from collections.abc import Sequence

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session, selectinload

from avocet.core.errors import InputError
from avocet.core.splitting import cover_labels, split_by_ratio
from avocet.store.tables import Part, Picture
from avocet.work.projects import LABELLED, get_project

PARTS = (Part.TRAINING, Part.VALIDATION, Part.TEST)


def split_pictures(session: Session, project_id: int, ratios: Sequence[float], seed: int) -> dict[str, int]:
    """Assign every picture of the project to a part, whole clips together.

    Labelled pictures and unlabelled ones are split each for themselves, so that the labelled
    ones follow the ratio too; a clip that has both counts as labelled. A class that would have no
    training box brings one of its pictures over.

    Parameters
    ----------
    session : Session
    project_id : int
    ratios : sequence of float
        For training, validation and test.
    seed : int

    Returns
    -------
    dict
        Labelled pictures in each part.

    Raises
    ------
    InputError
        If the ratios cannot be used.
    """
    get_project(session, project_id)
    if len(ratios) != len(PARTS):
        raise InputError(f"a split needs three ratios, not {len(ratios)}")
    pictures = list(
        session.scalars(
            select(Picture)
            .options(selectinload(Picture.boxes))
            .where(Picture.project_id == project_id, Picture.binned_at.is_(None))
            .order_by(Picture.content_hash)
        )
    )
    labelled_clips = {p.clip_id for p in pictures if p.clip_id is not None and p.state in LABELLED}
    is_labelled = [p.state in LABELLED or p.clip_id in labelled_clips for p in pictures]
    for wanted in (True, False):
        some = [p for p, labelled in zip(pictures, is_labelled, strict=True) if labelled == wanted]
        groups = [f"clip {p.clip_id}" if p.clip_id is not None else f"picture {p.id}" for p in some]
        try:
            numbers = split_by_ratio(groups, ratios, np.random.default_rng(seed))
        except ValueError as error:
            raise InputError(str(error)) from None
        numbers = cover_labels(numbers, groups, [{box.class_id for box in picture.boxes} for picture in some])
        for picture, number in zip(some, numbers, strict=True):
            picture.part = PARTS[number]
    session.flush()
    return labelled_by_part(session, project_id)


def set_part(session: Session, project_id: int, ids: Sequence[int], part: Part | None) -> int:
    """Put pictures into a part by hand; returns how many changed."""
    changed = 0
    for picture in session.scalars(
        select(Picture).where(Picture.project_id == project_id, Picture.id.in_(ids))
    ):
        changed += picture.part != part
        picture.part = part
    return changed


def labelled_by_part(session: Session, project_id: int) -> dict[str, int]:
    """Labelled pictures in each part, and those in none under ''."""
    rows = session.execute(
        select(Picture.part, func.count())
        .where(Picture.project_id == project_id, Picture.binned_at.is_(None), Picture.state.in_(LABELLED))
        .group_by(Picture.part)
    )
    counts = {part.value: 0 for part in PARTS} | {"": 0}
    for part, count in rows:
        counts[part.value if part else ""] = count
    return counts
