"""The boxes of a picture: reading and saving them so that nothing is silently overwritten."""

import math
from collections import defaultdict, deque
from collections.abc import Container, Hashable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from sqlalchemy import ColumnElement
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.formats.record import fit_box
from avocet.readable import readable
from avocet.store.tables import Box, Picture, PictureState, now
from avocet.work.labels.attributes import list_attributes, values_outside
from avocet.work.labels.states import fitting_state
from avocet.work.problems import Conflict
from avocet.work.project.current_classes import CurrentClasses

MOST_BOXES = 5000
LONGEST_ORIGIN = 60

HAND, CARRIED, IMPORTED = "hand", "carried", "imported"
"""Where boxes come from: drawn, followed through a clip, read from a file. Of others the origin names the model."""

Origin = Literal["hand", "carried", "imported", "proposed"]

MOST_ATTRIBUTES = 50


@dataclass(frozen=True, slots=True)
class NewBox:
    """A box to be saved, corners in original pixels."""

    class_id: int
    corners: tuple[float, float, float, float]
    crowd: bool = False
    attributes: dict[str, Any] = field(default_factory=dict)
    track: int | None = None
    origin: str = HAND


def usable_origin(origin: str) -> str:
    """An origin as it may be kept."""
    return readable(origin)[:LONGEST_ORIGIN]


def told_origin(origin: str) -> str:
    """An origin as files and the page are told it: nothing where a person drew the box, or nobody recorded it."""
    return "" if origin == HAND else origin


def of_origin(origin: Origin) -> ColumnElement[bool]:
    """A condition on boxes: those of an origin. What was not recorded counts as drawn by hand."""
    if origin == "proposed":
        return Box.origin.not_in(["", HAND, CARRIED, IMPORTED])
    return Box.origin.in_(["", HAND]) if origin == HAND else Box.origin == origin


def save_labels(
    session: Session,
    picture: Picture,
    revision: int,
    boxes: Sequence[NewBox],
    state: PictureState,
    by_hand: bool = True,
    worked: float = 0.0,
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
    worked : float
        Seconds that somebody worked on it since the last time it was saved.

    Raises
    ------
    Conflict
        If somebody saved another revision meanwhile; it holds what is there now.
    InputError
        If a box has no area, lies outside the picture, has a class of another project or one that was retired,
        or a value that its attribute does not hold. A class that was merged becomes the one that it was merged into.
    """
    if revision != picture.revision:
        raise Conflict(
            f"{picture.name} was changed meanwhile (revision {picture.revision}, not {revision})",
            labels_of(picture),
        )
    classes = CurrentClasses(session, picture.project_id)
    current = [replace(box, class_id=classes.became(box.class_id)) for box in boxes]
    classes.check(
        ((f"box {number} of {picture.name}", box.class_id) for number, box in enumerate(current, start=1)),
        (box.class_id for box in picture.boxes),
    )
    usable = usable_boxes(
        current, {box.class_id for box in current}, picture.name, picture.width, picture.height
    )
    _check_values(session, picture, usable)
    picture.boxes = _rows_for(picture, usable)
    picture.box_count = len(usable)
    picture.state = state_with(state, bool(usable), by_hand)
    picture.revision += 1
    picture.worked += worked
    picture.labelled_at = now() if picture.state != PictureState.UNLABELLED else None
    session.flush()
    return picture


def _rows_for(picture: Picture, boxes: Sequence[NewBox]) -> list[Box]:
    """Rows of a picture's boxes. One that is as it was keeps its row: mostly one of many has changed.

    A row is one box as it was drawn, by which the audit knows what it worked out of its pixels: what was moved
    or changed gets a new one.
    """
    there: dict[tuple[Hashable, ...], deque[Box]] = defaultdict(deque)
    for row in picture.boxes:
        there[_alike(row)].append(row)
    rows = []
    for number, box in enumerate(boxes, start=1):
        same = there[_alike(box)]
        row = same.popleft() if same else Box(
            class_id=box.class_id, x1=box.corners[0], y1=box.corners[1], x2=box.corners[2], y2=box.corners[3],
            crowd=box.crowd, attributes=box.attributes, track=box.track, origin=box.origin,
        )  # fmt: skip
        row.position = number
        rows.append(row)
    return rows


def _alike(box: Box | NewBox) -> tuple[Hashable, ...]:
    """What boxes have in common that are one box saved again. A flag is not the number 1."""
    attributes = tuple(sorted((name, repr(value)) for name, value in box.attributes.items()))
    return box.class_id, tuple(box.corners), box.crowd, attributes, box.track, box.origin


def _check_values(session: Session, picture: Picture, boxes: Sequence[NewBox]) -> None:
    """Refuse values that attributes do not hold, unless the picture has them already: of a file, or of before."""
    declared = list_attributes(session, picture.project_id)
    held = {(name, value) for box in picture.boxes for name, value in box.attributes.items()}
    for number, box in enumerate(boxes, start=1):
        for name, words in values_outside(declared, box.attributes):
            if (name, box.attributes[name]) not in held:
                raise InputError(f"box {number} of {picture.name} has {words}")


def usable_boxes(
    boxes: Sequence[NewBox], classes: Container[int], called: str, width: int, height: int
) -> list[NewBox]:
    """The boxes as they may be kept on a picture: cut to it, attributes without those that say nothing.

    Raises `InputError`, which names the picture as ``called``, for what cannot be kept.
    """
    if len(boxes) > MOST_BOXES:
        raise InputError(f"{called} would get {len(boxes)} boxes; at most {MOST_BOXES} are kept")
    usable = []
    for number, box in enumerate(boxes, start=1):
        if box.class_id not in classes:
            raise InputError(f"box {number} of {called} has class {box.class_id}, which is not here")
        corners, reason = fit_box(box.corners, width, height)
        if corners is None:
            raise InputError(f"box {number} of {called} {reason}")
        attributes, refused = sorted_attributes(box.attributes)
        if refused:
            raise InputError(f"box {number} of {called} cannot keep {refused[0]}")
        usable.append(
            NewBox(box.class_id, corners, box.crowd, attributes, box.track, usable_origin(box.origin))
        )
    return usable


def state_with(state: PictureState, has_boxes: bool, by_hand: bool) -> PictureState:
    """The state that a picture gets where ``state`` is asked for; see `save_labels`."""
    silent = not has_boxes and not by_hand and state == PictureState.DONE
    return state if silent else fitting_state(state, has_boxes)


def labels_of(picture: Picture) -> dict[str, Any]:
    """The picture's labels as the page gets them."""
    return labels_record(picture.revision, picture.state, picture.boxes)


def labels_record(revision: int, state: PictureState, boxes: Iterable[Box | NewBox]) -> dict[str, Any]:
    """Labels as the page gets them, and as a change keeps those before it."""
    return {
        "revision": revision,
        "state": state.value,
        "boxes": [
            {
                "class_id": box.class_id,
                "corners": list(box.corners),
                "crowd": box.crowd,
                "attributes": box.attributes,
                "track": box.track,
            }
            # Changes of earlier versions know none, and are recognised by what they do know.
            | ({"origin": box.origin} if told_origin(box.origin) else {})
            for box in boxes
        ],
    }


def boxes_of(picture: Picture) -> list[NewBox]:
    """The picture's boxes as they could be saved again."""
    return [
        NewBox(
            box.class_id, (box.x1, box.y1, box.x2, box.y2), box.crowd, box.attributes, box.track, box.origin
        )
        for box in picture.boxes
    ]


def boxes_from(labels: dict[str, Any]) -> list[NewBox]:
    """The boxes of what `labels_of` gave."""
    return [
        NewBox(
            box["class_id"],
            tuple(box["corners"]),
            box["crowd"],
            box["attributes"],
            box.get("track"),
            box.get("origin", HAND),
        )
        for box in labels["boxes"]
    ]


def sorted_attributes(attributes: dict[str, Any]) -> tuple[dict[str, Any], list[str]]:
    """Attributes that hold and can be kept, and what is wrong with each other one.

    Flags that are not set and empty values say nothing and are left out without a word.
    """
    kept: dict[str, Any] = {}
    refused = []
    for name, value in attributes.items():
        if value is None or value is False or value == "":
            continue
        if not isinstance(value, bool | int | float | str):
            refused.append(
                f"the attribute {name[:100]!r}: it is {str(value)[:60]!r}, neither flag, text nor number"
            )
        elif isinstance(value, float) and not math.isfinite(value):
            refused.append(f"the attribute {name[:100]!r}: it is {value}, which is no number")
        elif len(name) > 100 or len(str(value)) > 1000:
            refused.append(f"the attribute {name[:100]!r}: it is too long")
        elif len(kept) == MOST_ATTRIBUTES:
            refused.append(f"the attribute {name[:100]!r}: at most {MOST_ATTRIBUTES} are kept")
        else:
            kept[name] = value
    return kept, refused
