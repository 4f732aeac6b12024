"""The boxes of a picture: reading and saving them so that nothing is silently overwritten."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.formats.record import fit_box
from avocet.store.tables import Box, ObjectClass, Picture, PictureState, now
from avocet.work.labels.states import fitting_state
from avocet.work.problems import Conflict

MOST_BOXES = 5000
MOST_ATTRIBUTES = 50


@dataclass(frozen=True)
class NewBox:
    """A box to be saved, corners in original pixels."""

    class_id: int
    corners: tuple[float, float, float, float]
    crowd: bool = False
    attributes: dict[str, Any] = field(default_factory=dict)
    track: int | None = None


def save_labels(
    session: Session,
    picture: Picture,
    revision: int,
    boxes: Sequence[NewBox],
    state: PictureState,
    by_hand: bool = True,
) -> Picture:
    """Replace the boxes of a picture.

    Parameters
    ----------
    session : Session
    picture : Picture
    revision : int
        The revision that the change was made on.
    boxes : sequence of NewBox
        Cut to the picture where they reach over its edge.
    state : PictureState
        Without boxes, 'done' is 'empty' and 'in progress' is 'unlabelled'; with boxes, 'empty'
        and 'unlabelled' are 'in progress'.
    by_hand : bool
        A person who says 'done' without a box says that there is nothing. A file that has no box
        for a picture does not: such a picture stays 'done', and the audit asks about it.

    Raises
    ------
    Conflict
        If somebody saved another revision meanwhile; it holds what is there now.
    InputError
        If a box has no area, lies outside the picture or has a class of another project.
    """
    if revision != picture.revision:
        raise Conflict(
            f"{picture.name} was changed meanwhile (revision {picture.revision}, not {revision})",
            labels_of(picture),
        )
    if len(boxes) > MOST_BOXES:
        raise InputError(f"{picture.name} would get {len(boxes)} boxes; at most {MOST_BOXES} are kept")
    known: dict[int, bool] = {}
    rows = []
    for number, box in enumerate(boxes, start=1):
        if box.class_id not in known:
            found = session.get(ObjectClass, box.class_id)
            known[box.class_id] = found is not None and found.project_id == picture.project_id
        if not known[box.class_id]:
            raise InputError(f"box {number} of {picture.name} has class {box.class_id}, which is not here")
        corners, reason = fit_box(box.corners, picture.width, picture.height)
        if corners is None:
            raise InputError(f"box {number} of {picture.name} {reason}")
        x1, y1, x2, y2 = corners
        rows.append(
            Box(
                class_id=box.class_id,
                position=number,
                x1=x1,
                y1=y1,
                x2=x2,
                y2=y2,
                crowd=box.crowd,
                attributes=_usable_attributes(box.attributes, f"box {number} of {picture.name}"),
                track=box.track,
            )
        )
    picture.boxes = rows
    picture.box_count = len(rows)
    if rows or by_hand or state != PictureState.DONE:
        state = fitting_state(state, bool(rows))
    picture.state = state
    picture.revision += 1
    picture.labelled_at = now() if state != PictureState.UNLABELLED else None
    session.flush()
    return picture


def labels_of(picture: Picture) -> dict[str, Any]:
    """The picture's labels as the page gets them."""
    return {
        "revision": picture.revision,
        "state": picture.state.value,
        "boxes": [
            {
                "class_id": box.class_id,
                "corners": list(box.corners),
                "crowd": box.crowd,
                "attributes": box.attributes,
                "track": box.track,
            }
            for box in picture.boxes
        ],
    }


def boxes_of(picture: Picture) -> list[NewBox]:
    """The picture's boxes as they could be saved again."""
    return [
        NewBox(box.class_id, (box.x1, box.y1, box.x2, box.y2), box.crowd, box.attributes, box.track)
        for box in picture.boxes
    ]


def boxes_from(labels: dict[str, Any]) -> list[NewBox]:
    """The boxes of what `labels_of` gave."""
    return [
        NewBox(box["class_id"], tuple(box["corners"]), box["crowd"], box["attributes"], box.get("track"))
        for box in labels["boxes"]
    ]


def _usable_attributes(attributes: dict[str, Any], called: str) -> dict[str, Any]:
    """Only what holds: flags that are not set and empty values are left out."""
    kept = {}
    for name, value in attributes.items():
        if value is None or value is False or value == "":
            continue
        if not isinstance(value, bool | int | float | str):
            raise InputError(
                f"{called}: the attribute {name!r} is {str(value)[:60]!r}, neither flag, text nor number"
            )
        if isinstance(value, float) and not math.isfinite(value):
            raise InputError(f"{called}: the attribute {name!r} is {value}, which is no number")
        if len(name) > 100 or len(str(value)) > 1000:
            raise InputError(f"{called}: the attribute {name[:100]!r} is too long")
        kept[name] = value
    if len(kept) > MOST_ATTRIBUTES:
        raise InputError(f"{called} has {len(kept)} attributes; at most {MOST_ATTRIBUTES} are kept")
    return kept
