"""Boxes that models propose for pictures, until a person accepts them."""

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import delete
from sqlalchemy.orm import Session

from avocet.store.tables import Proposal


def keep_proposals(
    session: Session, picture_id: int, found: Sequence[Mapping[str, Any]], detection_id: int | None = None
) -> None:
    """Keep what was found on a picture, in place of what was proposed for it before.

    Parameters
    ----------
    session : Session
    picture_id : int
    found : sequence of mapping
        With ``class``, ``score`` and ``box``.
    detection_id : int, optional
        The detection run that found it.
    """
    session.execute(delete(Proposal).where(Proposal.picture_id == picture_id))
    for each in found:
        x1, y1, x2, y2 = each["box"]
        session.add(
            Proposal(
                picture_id=picture_id, detection_id=detection_id, class_name=each["class"], score=each["score"],
                x1=x1, y1=y1, x2=x2, y2=y2,
            )
        )  # fmt: skip
