"""Labels that a measured model gives reason to doubt, and mending them from there."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from sqlalchemy.orm import Session

from avocet.core.boxes import iou
from avocet.core.detections import PictureDetections
from avocet.core.errors import InputError
from avocet.core.raw.candidates import EVERY_SCORE
from avocet.core.score.doubts import Doubt, DoubtKind, doubt_labels
from avocet.store.audit_tables import FineAsItIs
from avocet.store.tables import Change, Part, Picture, PictureState
from avocet.work.judge.opened import Measured
from avocet.work.labels.boxes import NewBox, boxes_of
from avocet.work.labels.changes import begin_change, change_picture
from avocet.work.labels.classes import list_classes
from avocet.work.problems import NotFound

SAME_BOX = 0.9
"""IoU from which a label of today is the one that was measured."""

Corners = tuple[float, float, float, float]
State = Literal["open", "mended", "fine", "gone"]


@dataclass(frozen=True)
class DoubtedLabel:
    """A likely labelling mistake, as it is shown.

    Attributes
    ----------
    number : int
        By which it is referred to.
    kind : str
    likelihood : float
    picture_id : int
    name : str
    labelled, predicted : str or None
        Class in the labels, and class that the model says.
    label, prediction : tuple of float or None
        Corners in pixels.
    score : float or None
    state : str
        'open'; 'mended', where the labels of today agree with the model; 'fine', where a person
        said that the label is right; 'gone', where the picture is not in the project any more.
    """

    number: int
    kind: DoubtKind
    likelihood: float
    picture_id: int
    name: str
    labelled: str | None
    predicted: str | None
    label: Corners | None
    prediction: Corners | None
    score: float | None
    state: State = "open"

    @property
    def place(self) -> Corners:
        """What it is about: the label, or the prediction where there is none."""
        found = self.label or self.prediction
        assert found is not None
        return found

    def key(self, content_hash: str) -> str:
        """Names it by picture and place, so that another evaluation knows what was found right."""
        place = ",".join(f"{value:.0f}" for value in self.place)
        return f"model:{self.kind}:{content_hash[:16]}:{self.labelled or self.predicted}:{place}"


def list_doubts(session: Session, measured: Measured, overlap_limit: float) -> list[DoubtedLabel]:
    """Likely labelling mistakes, most likely first.

    Raises
    ------
    InputError
        On the test part, whose labels are not to be chosen by what a model says, and on a truth
        from outside.
    """
    _refuse_test(measured)
    names = {each.id: each.name for each in list_classes(session, measured.project_id)}
    return [
        replace(each, state=_how_it_stands(session, measured, each, names))
        for each in _entries(measured, overlap_limit)
    ]


def accept_prediction(session: Session, measured: Measured, overlap_limit: float, number: int) -> Change:
    """Change the labels of today as the model says; the change can be taken back.

    Raises
    ------
    InputError
        If the label is not there any more as it was measured, or the class is not.
    """
    doubt, picture = _picked(session, measured, overlap_limit, number)
    if picture is None:
        raise NotFound(f"{doubt.name} is not in the project any more")
    classes = {each.name: each.id for each in list_classes(session, measured.project_id)}
    if doubt.predicted is not None and doubt.predicted not in classes:
        raise InputError(f"the project has no class {doubt.predicted!r} any more")
    boxes = boxes_of(picture)
    if doubt.label is None:
        assert doubt.predicted is not None and doubt.prediction is not None
        boxes.append(NewBox(classes[doubt.predicted], doubt.prediction))
        title = f"{doubt.predicted} added to {doubt.name}"
    else:
        place = _place(boxes, doubt.label)
        if place < 0:
            raise InputError(f"the label on {doubt.name} was changed since; open it in Collect")
        if doubt.predicted is None or doubt.prediction is None:
            del boxes[place]
            title = f"{doubt.labelled} taken off {doubt.name}"
        else:
            moved = doubt.prediction if doubt.kind == "badly placed" else boxes[place].corners
            boxes[place] = replace(boxes[place], class_id=classes[doubt.predicted], corners=moved)
            title = f"{doubt.predicted} put right on {doubt.name}"
    state = PictureState.DONE if picture.state == PictureState.EMPTY else picture.state
    change = begin_change(session, measured.project_id, title)
    change_picture(session, change, picture, boxes, state)
    return change


def call_it_fine(session: Session, measured: Measured, overlap_limit: float, number: int, fine: bool) -> None:
    """Note that a person found the label right, or take that back."""
    doubt, _ = _picked(session, measured, overlap_limit, number)
    key = (measured.project_id, _key(measured, doubt))
    there = session.get(FineAsItIs, key)
    if fine and there is None:
        session.add(FineAsItIs(project_id=key[0], finding=key[1]))
    elif not fine and there is not None:
        session.delete(there)


def _entries(measured: Measured, overlap_limit: float) -> list[DoubtedLabel]:
    found = measured.found(EVERY_SCORE, overlap_limit)
    doubts = doubt_labels(measured.truths, found, len(measured.classes))
    return [_entry(measured, number, doubt, found[doubt.picture]) for number, doubt in enumerate(doubts)]


def _entry(measured: Measured, number: int, doubt: Doubt, found: PictureDetections) -> DoubtedLabel:
    frozen, truth = measured.pictures[doubt.picture], measured.truths[doubt.picture]
    labelled, said = doubt.truth >= 0, doubt.detection >= 0
    return DoubtedLabel(
        number=number,
        kind=doubt.kind,
        likelihood=doubt.likelihood,
        picture_id=frozen.id,
        name=frozen.name,
        labelled=measured.classes[truth.classes[doubt.truth]] if labelled else None,
        predicted=measured.classes[found.classes[doubt.detection]] if said else None,
        label=_corners(truth.boxes[doubt.truth]) if labelled else None,
        prediction=_corners(found.boxes[doubt.detection]) if said else None,
        score=float(found.scores[doubt.detection]) if said else None,
    )


def _picked(
    session: Session, measured: Measured, overlap_limit: float, number: int
) -> tuple[DoubtedLabel, Picture | None]:
    _refuse_test(measured)
    entries = _entries(measured, overlap_limit)
    if not 0 <= number < len(entries):
        raise NotFound(f"there is no such doubt ({number})")
    return entries[number], _picture(session, measured, entries[number])


def _picture(session: Session, measured: Measured, doubt: DoubtedLabel) -> Picture | None:
    """The picture as the project has it, if it still has it."""
    frozen = measured.pictures[measured.index_of(doubt.picture_id)]
    picture = session.get(Picture, frozen.id)
    same = picture is not None and picture.binned_at is None and picture.content_hash == frozen.content_hash
    return picture if same else None


def _refuse_test(measured: Measured) -> None:
    if measured.part == Part.TEST:
        raise InputError(
            "labels of the test part are not mended by what a model says: it would come out too well"
        )
    if measured.part is None:
        raise InputError("these labels came from outside; they are mended where they were made")


def _how_it_stands(session: Session, measured: Measured, doubt: DoubtedLabel, names: dict[int, str]) -> State:
    if session.get(FineAsItIs, (measured.project_id, _key(measured, doubt))) is not None:
        return "fine"
    picture = _picture(session, measured, doubt)
    if picture is None:
        return "gone"
    today = boxes_of(picture)
    if doubt.prediction is None:
        return "open" if _place(today, doubt.place) >= 0 else "mended"
    place = _place(today, doubt.place if doubt.kind == "other class" else doubt.prediction)
    return "mended" if place >= 0 and names.get(today[place].class_id) == doubt.predicted else "open"


def _place(boxes: Sequence[NewBox], corners: Corners) -> int:
    """The box of today that lies where one was, or -1."""
    if not boxes:
        return -1
    overlaps = iou(np.array([box.corners for box in boxes]), [corners])[:, 0]
    best = int(overlaps.argmax())
    return best if overlaps[best] >= SAME_BOX else -1


def _corners(values: Iterable[float]) -> Corners:
    x1, y1, x2, y2 = (float(value) for value in values)
    return x1, y1, x2, y2


def _key(measured: Measured, doubt: DoubtedLabel) -> str:
    return doubt.key(measured.pictures[measured.index_of(doubt.picture_id)].content_hash)
