"""Mending what a look has found, each with a way back."""

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from avocet.core.errors import InputError
from avocet.store.database import Sessions, reading
from avocet.store.tables import Change, Picture
from avocet.work.job_outcomes import ChangeMade
from avocet.work.labels.boxes import boxes_of
from avocet.work.labels.changes import begin_change, change_picture
from avocet.work.pictures.filing import set_part
from avocet.work.problems import NotFound


def cut_to_picture(session: Session, project_id: int, picture_id: int) -> Change:
    """Cut a picture's boxes at its edges, as every save does.

    Raises
    ------
    InputError
        If a box lies outside altogether; it has to be deleted or drawn anew.
    """
    picture = _pictures(session, project_id, [picture_id])[0]
    change = begin_change(session, project_id, f"Boxes of {picture.name} cut to the picture")
    change_picture(session, change, picture, boxes_of(picture), picture.state, by_hand=False)
    return change


def join_parts(sessions: Sessions, project_id: int, picture_ids: Sequence[int]) -> ChangeMade:
    """Bring near-identical pictures into the part of the first one."""
    with reading(sessions)() as session:
        first, *others = _pictures(session, project_id, picture_ids)
    if first.part is None or not others:
        raise InputError("near-identical pictures are joined in the part of the first one, which has none")
    return set_part(sessions, project_id, [each.id for each in others], first.part)


def _pictures(session: Session, project_id: int, ids: Sequence[int]) -> list[Picture]:
    query = select(Picture).options(selectinload(Picture.boxes))
    found = {
        each.id: each
        for each in session.scalars(query.where(Picture.project_id == project_id, Picture.id.in_(ids)))
    }
    missing = [number for number in ids if number not in found]
    if missing or not ids:
        raise NotFound(f"the project has no picture {missing[0] if missing else ''}")
    return [found[number] for number in ids]
