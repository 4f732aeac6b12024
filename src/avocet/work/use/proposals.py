"""Boxes that models propose for pictures, until a person keeps or refuses them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, delete, distinct, func, select
from sqlalchemy.orm import Session

from avocet.core.boxes import iou
from avocet.core.errors import InputError
from avocet.core.labels.comparing import compare_boxes
from avocet.core.labels.labour import TimeSaved, time_saved
from avocet.core.labels.looks import bits_apart
from avocet.store.rows import among
from avocet.store.tables import Box, ObjectClass, Picture, PictureState, Proposal

SAME = 0.5
"""IoU from which two boxes are about one object."""

NEARLY_THE_SAME = 5
"""Bits by which the looks of pictures differ at most that are near-identical, as in Audit."""

LOOKED_THROUGH = 200


def keep_proposals(
    session: Session,
    picture_id: int,
    found: Sequence[Mapping[str, Any]],
    model: str,
    detection_id: int | None = None,
) -> int:
    """Keep what was found on a picture, in place of what was proposed for it before.

    Parameters
    ----------
    session : Session
    picture_id : int
    found : sequence of mapping
        With ``class``, ``score`` and ``box``.
    model : str
        As `model_named`. What a person refused of the same model does not come back.
    detection_id : int, optional
        The detection run that found it.

    Returns
    -------
    int
        How many are kept.
    """
    session.execute(delete(Proposal).where(Proposal.picture_id == picture_id, Proposal.refused.is_(False)))
    before = select(Proposal).where(Proposal.picture_id == picture_id, Proposal.model == model)
    refused = list(session.scalars(before)) if model else []
    kept = 0
    for each in found:
        x1, y1, x2, y2 = each["box"]
        if any(
            old.class_name == each["class"] and iou([each["box"]], [_corners(old)])[0, 0] >= SAME
            for old in refused
        ):
            continue
        kept += 1
        session.add(
            Proposal(
                picture_id=picture_id, detection_id=detection_id, class_name=each["class"], score=each["score"],
                x1=x1, y1=y1, x2=x2, y2=y2, model=model,
            )
        )  # fmt: skip
    return kept


def model_named(run_id: int | None, ensemble_id: int | None) -> str:
    """What a proposal is called to come from.

    Examples
    --------
    >>> model_named(3, None), model_named(None, 2), model_named(None, None)
    ('run 3', 'ensemble 2', '')
    """
    if run_id is not None:
        return f"run {run_id}"
    return f"ensemble {ensemble_id}" if ensemble_id is not None else ""


def open_proposals(session: Session, picture_id: int) -> list[Proposal]:
    """What is proposed for a picture and was not refused, the surest first."""
    query = select(Proposal).where(Proposal.picture_id == picture_id, Proposal.refused.is_(False))
    return list(session.scalars(query.order_by(Proposal.score.desc(), Proposal.id)))


def proposals_of(session: Session, pictures: Sequence[int]) -> dict[int, int]:
    """How many proposals each of some pictures has that were not refused; none for the others."""
    query = (
        select(Proposal.picture_id, func.count())
        .where(among(Proposal.picture_id, pictures), Proposal.refused.is_(False))
        .group_by(Proposal.picture_id)
    )
    return {picture_id: int(count) for picture_id, count in session.execute(query)}


def refuse(session: Session, picture_id: int, numbers: Sequence[int], refused: bool = True) -> list[Proposal]:
    """Refuse proposals of a picture, or take that back; what is proposed then.

    Raises
    ------
    InputError
        If one is none of this picture's.
    """
    query = select(Proposal).where(Proposal.picture_id == picture_id, Proposal.id.in_(numbers))
    chosen = list(session.scalars(query))
    if missing := set(numbers) - {each.id for each in chosen}:
        raise InputError(f"the picture has no proposal {min(missing)}")
    for each in chosen:
        each.refused = refused
    session.flush()
    return open_proposals(session, picture_id)


def proposed_pictures(session: Session, project_id: int) -> tuple[int, int]:
    """How many pictures that are not labelled yet have proposals, and how many proposals those are."""
    query = (
        select(func.count(distinct(Proposal.picture_id)), func.count(Proposal.id))
        .join(Picture, Picture.id == Proposal.picture_id)
        .where(
            Picture.project_id == project_id,
            Picture.binned_at.is_(None),
            Picture.state.in_([PictureState.UNLABELLED, PictureState.IN_PROGRESS]),
            Proposal.refused.is_(False),
        )
    )
    pictures, proposals = session.execute(query).one()
    return int(pictures), int(proposals)


def least_sure(session: Session, picture: Picture) -> int | None:
    """The unlabelled picture whose least sure proposal is the least sure of all, for whoever comes from another one.

    One that looks as good as the same as that other is passed over where there is another: a person learns
    nothing new on it, and neither does a model.

    Returns
    -------
    int or None
        Its number; None where nothing is proposed for any.
    """
    worst = func.min(Proposal.score).label("worst")
    query = (
        select(Picture.id, Picture.look, worst)
        .join(Proposal, Proposal.picture_id == Picture.id)
        .where(
            Picture.project_id == picture.project_id,
            Picture.binned_at.is_(None),
            Picture.state == PictureState.UNLABELLED,
            Picture.id != picture.id,
            Proposal.refused.is_(False),
        )
        .group_by(Picture.id)
        .order_by(worst, Picture.id)
        .limit(LOOKED_THROUGH)
    )
    rows = session.execute(query).all()
    for number, look, _ in rows:
        if look is None or picture.look is None or bits_apart(look, picture.look) > NEARLY_THE_SAME:
            return number
    return rows[0][0] if rows else None


@dataclass(frozen=True)
class Labour:
    """What became of proposals on the pictures that are labelled now.

    Attributes
    ----------
    pictures : int
        Labelled ones for which something was proposed.
    kept : int
        Boxes that are as they were proposed: class and place.
    corrected : int
        Boxes of an object that was proposed otherwise: moved, or of another class.
    by_hand : int
        Boxes that nothing was proposed for.
    refused : int
        Proposals that no box stands for.
    time : TimeSaved, optional
        What that saved; None where too few pictures were worked on in the page to tell.
    timed : int
        Pictures without proposals that tell how long a box takes by hand.
    """

    pictures: int
    kept: int
    corrected: int
    by_hand: int
    refused: int
    time: TimeSaved | None
    timed: int


def labour(session: Session, project_id: int) -> Labour:
    """Count what proposals were worth, from the boxes that there are now.

    A box that was kept and moved later counts as corrected.
    """
    done = (
        Picture.project_id == project_id,
        Picture.binned_at.is_(None),
        Picture.state.in_([PictureState.DONE, PictureState.EMPTY]),
    )
    proposals: dict[int, list[Proposal]] = {}
    for each in session.scalars(
        select(Proposal).join(Picture, Picture.id == Proposal.picture_id).where(*done)
    ):
        proposals.setdefault(each.picture_id, []).append(each)
    of_project = ObjectClass.project_id == project_id
    names = {each.id: each.name for each in session.scalars(select(ObjectClass).where(of_project))}
    boxes: dict[int, list[Box]] = {}
    proposed_for = select(Proposal.picture_id)
    on_them = (
        select(Box).join(Picture, Picture.id == Box.picture_id).where(*done, Picture.id.in_(proposed_for))
    )
    for box in session.scalars(on_them):
        boxes.setdefault(box.picture_id, []).append(box)
    counts = {"kept": 0, "corrected": 0, "by_hand": 0, "refused": 0}
    for picture_id, proposed in proposals.items():
        for name, number in _of_picture(proposed, boxes.get(picture_id, []), names).items():
            counts[name] += number
    by_hand, timed = _time(session, done)
    return Labour(len(proposals), **counts, time=by_hand, timed=timed)


def _time(session: Session, done: Sequence[ColumnElement[bool]]) -> tuple[TimeSaved | None, int]:
    """What proposals saved on labelled pictures, of which it is known how long somebody worked on them."""
    proposed = Picture.id.in_(select(Proposal.picture_id))
    query = select(Picture.box_count, Picture.worked, proposed).where(*done, Picture.worked > 0)
    rows = session.execute(query).all()
    hand = [(boxes, seconds) for boxes, seconds, helped in rows if not helped and boxes]
    helped = [(boxes, seconds) for boxes, seconds, helped in rows if helped]
    saved = time_saved(*_columns(hand), *_columns(helped))
    return saved, len(hand)


def _columns(rows: Sequence[tuple[int, float]]) -> tuple[list[int], list[float]]:
    return [boxes for boxes, _ in rows], [seconds for _, seconds in rows]


def _of_picture(
    proposed: Sequence[Proposal], boxes: Sequence[Box], names: Mapping[int, str]
) -> dict[str, int]:
    changes = compare_boxes(
        [_corners(each) for each in proposed],
        [each.class_name for each in proposed],
        [each.corners for each in boxes],
        [names.get(each.class_id, "") for each in boxes],
    )
    corrected = len({box for _, box in (*changes.moved, *changes.relabelled)})
    return {
        "kept": len(boxes) - len(changes.added) - corrected,
        "corrected": corrected,
        "by_hand": len(changes.added),
        "refused": len(changes.gone),
    }


def _corners(proposal: Proposal) -> tuple[float, float, float, float]:
    return proposal.x1, proposal.y1, proposal.x2, proposal.y2
