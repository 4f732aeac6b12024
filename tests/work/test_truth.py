"""What a detection run got right, against labels."""

import numpy as np
import pytest

from avocet.store.tables import Detection, Picture, PictureState
from avocet.work.job_givens import DetectionInputs
from avocet.work.job_kinds import DETECT
from avocet.work.jobs import create_job, give
from avocet.work.labels.boxes import save_labels
from avocet.work.labels.classes import list_classes
from avocet.work.labels.rows import picture_rows
from avocet.work.pictures.listing import Filter, conditions
from avocet.work.use.found import Found, LookedAt
from avocet.work.use.truth import compared


@pytest.fixture
def run(data, labelled):
    """A run over the six labelled pictures of the project that found exactly what is labelled."""
    _, sessions = data
    with sessions.begin() as session:
        job = create_job(session, labelled, DETECT, "Run")
        give(job, DETECT, DetectionInputs(detection_id=0, pictures=True))
        detection = Detection(project_id=labelled, job=job, source="6", minimum_score=0.5, overlap_limit=0.5)
        session.add(detection)
    with sessions() as session:
        rows = picture_rows(session, conditions(labelled, Filter()))
        names = {each.id: each.name for each in list_classes(session, labelled)}
    classes = sorted(set(names.values()))
    boxes = [
        (n, classes.index(names[b.class_id]), b.corners) for n, row in enumerate(rows) for b in row.boxes
    ]
    return (
        sessions,
        detection.id,
        [LookedAt(r.name, r.width, r.height, -1, 0.0, "") for r in rows],
        classes,
        boxes,
    )


def told(run, boxes):
    sessions, number, looked, classes, _ = run
    count = len(boxes)
    owner, kinds, corners = (list(each) for each in zip(*boxes, strict=True)) if boxes else ([], [], [])
    found = Found(
        looked, classes, np.array(owner, np.int64), np.array(kinds, np.int64), np.full(count, 0.9),
        np.array(corners, np.float64).reshape(-1, 4), np.ones(count, bool), np.zeros(count, np.int64),
    )  # fmt: skip
    with sessions() as session:
        return compared(session, session.get(Detection, number), found, np.arange(count))


def test_what_is_labelled_is_right(run):
    made = told(run, run[4])
    assert made.right == list(range(6)) and not made.wrong and not made.missed_boxes
    assert made.found.total() == len(run[4]) and made.missed.total() == made.false.total() == 0
    nothing = told(run, [])
    assert nothing.wrong == list(range(6)) and nothing.missed.total() == len(run[4])


def test_a_missed_object_a_false_box_and_another_class(run):
    boxes = list(run[4])
    place, kind, corners = boxes.pop(0)
    made = told(run, boxes)
    assert made.wrong == [place] and made.missed_boxes == {place: [list(corners)]} and not made.false_boxes
    other = (kind + 1) % len(run[3])
    made = told(run, [(place, other, corners), *boxes])
    assert made.missed_boxes == {place: [list(corners)]} and made.false_boxes == {place: [0]}
    assert made.false[run[3][other]] == 1 and made.missed[run[3][kind]] == 1
    moved = tuple(v + 0.6 * (corners[2] - corners[0]) for v in corners)
    made = told(run, [(place, kind, moved), *boxes])
    assert place in made.missed_boxes and made.false_boxes == {place: [0]}


def test_only_pictures_that_are_done_and_of_one_name_are_compared(run, data, labelled):
    sessions = run[0]
    with sessions.begin() as session:
        pictures = session.query(Picture).order_by(Picture.id).all()
        save_labels(session, pictures[0], pictures[0].revision, [], PictureState.IN_PROGRESS)
        pictures[1].name = pictures[2].name
    made = told(run, run[4])
    assert made.right == [3, 4, 5] and not made.wrong


def test_files_that_the_project_does_not_hold(run):
    sessions, number, *_ = run
    with sessions.begin() as session:
        give(session.get(Detection, number).job, DETECT, DetectionInputs(detection_id=number))
    made = told(run, run[4])
    assert not made.right and not made.wrong
