"""Which pictures are for training, for validation and for the test."""

from collections.abc import Mapping, Sequence

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session, selectinload

from avocet.core.errors import InputError
from avocet.core.labels.splitting import cover_labels, split_by_ratio
from avocet.store.tables import Part, Picture
from avocet.work.labels.states import LABELLED
from avocet.work.pictures.listing import chosen_pictures
from avocet.work.project.projects import get_project

PARTS = (Part.TRAINING, Part.VALIDATION, Part.TEST)


def split_pictures(
    session: Session,
    project_id: int,
    ratios: Sequence[float],
    seed: int,
    whole_sources: bool = True,
) -> dict[str, int]:
    """Assign every picture of the project to a part, whole clips together, classes in proportion.

    Labelled pictures and unlabelled ones are split each for themselves, so that the labelled
    ones follow the ratio too; a clip or source that has both counts as labelled. A class that would have no
    training box brings one of its pictures over.

    Parameters
    ----------
    session : Session
    project_id : int
    ratios : sequence of float
        For training, validation and test.
    seed : int
    whole_sources : bool
        Keep pictures of one source (a folder, or one inside an archive) together as well.

    Returns
    -------
    dict
        Labelled pictures in each part.

    Raises
    ------
    InputError
        If the ratios cannot be used, or there are too few sources to keep each whole.
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
    if whole_sources:
        _check_enough_sources([p for p in pictures if p.state in LABELLED], ratios)
    group_of = [_group(picture, whole_sources) for picture in pictures]
    labelled_groups = {g for g, p in zip(group_of, pictures, strict=True) if p.state in LABELLED}
    is_labelled = [group in labelled_groups for group in group_of]
    for wanted in (True, False):
        some = [p for p, labelled in zip(pictures, is_labelled, strict=True) if labelled == wanted]
        groups = [g for g, labelled in zip(group_of, is_labelled, strict=True) if labelled == wanted]
        try:
            labels = [[box.class_id for box in picture.boxes] for picture in some]
            numbers = split_by_ratio(groups, ratios, np.random.default_rng(seed), labels)
        except ValueError as error:
            raise InputError(str(error)) from None
        numbers = cover_labels(numbers, groups, [set(each) for each in labels])
        for picture, number in zip(some, numbers, strict=True):
            picture.part = PARTS[number]
    session.flush()
    return labelled_by_part(session, project_id)


def _check_enough_sources(labelled: Sequence[Picture], ratios: Sequence[float]) -> None:
    """Refuse a split that leaves a part empty only because sources are kept whole."""
    wanted = sum(ratio > 0 for ratio in ratios)
    whole, parted = ({_group(picture, keep) for picture in labelled} for keep in (True, False))
    if len(whole) < wanted <= len(parted):
        sources = sorted({picture.source for picture in labelled if picture.source})
        raise InputError(
            f"the labelled pictures come from {', '.join(sources)}; kept whole they cannot fill {wanted} parts. "
            "Add pictures from elsewhere, ask for fewer parts, or let folders and archives be parted."
        )


def _group(picture: Picture, whole_sources: bool) -> str:
    """What a picture must not be parted from."""
    if picture.clip_id is not None:
        return f"clip {picture.clip_id}"
    return f"source {picture.source}" if whole_sources and picture.source else f"picture {picture.id}"


def set_part(session: Session, project_id: int, ids: Sequence[int], part: Part | None) -> int:
    """Put pictures into a part by hand; returns how many changed."""
    changed = 0
    for picture in chosen_pictures(session, project_id, ids):
        changed += picture.part != part
        picture.part = part
    return changed


def take_parts(session: Session, project_id: int, parts: Mapping[str, str]) -> dict[str, int]:
    """Put pictures that are in no part yet into those named for them; returns labelled ones by part."""
    query = select(Picture).where(Picture.project_id == project_id, Picture.part.is_(None))
    for picture in session.scalars(query):
        if picture.name in parts:
            picture.part = Part(parts[picture.name])
    session.flush()
    return labelled_by_part(session, project_id)


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
