"""What a detection run got right, where people have labelled the pictures that it looked at."""

from collections import Counter
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from avocet.core.score.matching import match
from avocet.formats.record import IGNORE
from avocet.store.tables import Detection, Picture, PictureState
from avocet.work.job_givens import DetectionInputs
from avocet.work.labels.classes import list_classes
from avocet.work.labels.rows import PictureRow, picture_rows
from avocet.work.pictures.listing import Filter, conditions
from avocet.work.use.found import Found, Whole

MOST_COMPARED = 20_000
"""Pictures: it is done anew with every move of a slider."""

AT_ONCE = 500
"""Names that the database is asked for in one go."""

SAME = 0.5
"""IoU from which a box of the right class counts as having found its object."""


@dataclass
class Rightness:
    """How what was found compares with the labels that there are now.

    Attributes
    ----------
    right, wrong : list of int
        Places of pictures with every object found and nothing else, and of the other labelled ones.
    found, missed, false : Counter of str
        Objects by class, and boxes that show none.
    missed_boxes : dict of int to list of list of float
        By place, the labels that nothing has found.
    false_boxes : dict of int to list of int
        By place, which of the boxes that count there show nothing.
    """

    right: list[int] = field(default_factory=list)
    wrong: list[int] = field(default_factory=list)
    found: Counter[str] = field(default_factory=Counter)
    missed: Counter[str] = field(default_factory=Counter)
    false: Counter[str] = field(default_factory=Counter)
    missed_boxes: dict[int, list[list[float]]] = field(default_factory=dict)
    false_boxes: dict[int, list[int]] = field(default_factory=dict)


def compared(session: Session, detection: Detection, found: Found, chosen: Whole) -> Rightness:
    """Compare the boxes that count with the labels of pictures that are done.

    Parameters
    ----------
    session : Session
    detection : Detection
    found : Found
    chosen : ndarray of int64
        Boxes that count.

    Returns
    -------
    Rightness
        Of nothing, where the run went over files that the project does not hold, or over more than
        `MOST_COMPARED`.
    """
    made = Rightness()
    given = DetectionInputs.model_validate(detection.job.arguments)
    if not given.pictures or len(found.looked) > MOST_COMPARED:
        return made
    known = {each.id: each.name for each in list_classes(session, detection.project_id)}
    wanted = [
        *conditions(detection.project_id, Filter()),
        Picture.state.in_([PictureState.DONE, PictureState.EMPTY]),
    ]
    names = sorted({each.name for each in found.looked})
    rows = [
        row
        for start in range(0, len(names), AT_ONCE)
        for row in picture_rows(session, [*wanted, Picture.name.in_(names[start : start + AT_ONCE])])
    ]
    often = Counter(row.name for row in rows)
    by_name = {row.name: row for row in rows if often[row.name] == 1}
    starts = np.searchsorted(found.owner[chosen], np.arange(len(found.looked) + 1))
    for place, looked in enumerate(found.looked):
        row = by_name.get(looked.name)
        if row is None or (row.width, row.height) != (looked.width, looked.height):
            continue
        mine = chosen[starts[place] : starts[place + 1]]
        _compare(row, known, found, mine, made, place)
        differs = place in made.missed_boxes or place in made.false_boxes
        (made.wrong if differs else made.right).append(place)
    return made


def _compare(
    row: PictureRow, known: dict[int, str], found: Found, mine: Whole, made: Rightness, place: int
) -> None:
    """Compare one picture class by class."""
    labels = [known[each.class_id] for each in row.boxes]
    for name in dict.fromkeys([*labels, *(found.classes[kind] for kind in found.kinds[mine])]):
        truths = [box for box, label in zip(row.boxes, labels, strict=True) if label == name]
        of_class = np.flatnonzero(_of_class(found, mine, name))
        boxes = mine[of_class]
        crowd = [each.crowd for each in truths]
        ignored = [bool(each.attributes.get(IGNORE)) or each.crowd for each in truths]
        matched = match(
            found.boxes[boxes],
            found.scores[boxes],
            np.array([each.corners for each in truths], dtype=np.float64).reshape(-1, 4),
            [SAME],
            ignored,
            crowd,
        )
        counts = ~np.array(ignored, dtype=bool)
        hit = matched.detection_of_truth[0] >= 0
        taken = (matched.truth_of_detection[0] >= 0) | matched.detection_ignored[0]
        missed, false = np.flatnonzero(counts & ~hit), of_class[~taken]
        made.found[name] += int((counts & hit).sum())
        made.missed[name] += len(missed)
        made.false[name] += len(false)
        if len(missed):
            made.missed_boxes.setdefault(place, []).extend(list(truths[each].corners) for each in missed)
        if len(false):
            made.false_boxes.setdefault(place, []).extend(false.tolist())


def _of_class(found: Found, boxes: Whole, name: str) -> NDArray[np.bool_]:
    if name not in found.classes:
        return np.zeros(len(boxes), bool)
    same: NDArray[np.bool_] = found.kinds[boxes] == found.classes.index(name)
    return same
