"""What a run would learn from, and the looks ahead at it."""

import json
import zipfile
from dataclasses import astuple

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.core.raw.anchors import mean_best_iou
from avocet.detector.targets.anchors import input_sizes
from avocet.jobs.worker import run_job
from avocet.store.tables import Box, JobState, Part, Picture, PictureState
from avocet.work.job_kinds import CLUSTER_ANCHORS, DRAW_AUGMENTED, PROBE_RUN, SUM_UP_SIZES
from avocet.work.labels.boxes import NewBox, labels_of, save_labels
from avocet.work.labels.classes import add_class
from avocet.work.labels.columns import read_columns
from avocet.work.progress import SILENT, Stopped
from avocet.work.snapshots.frozen import labelled_pictures
from avocet.work.snapshots.snapshots import freeze, get_snapshot, labels_now, read_snapshot
from avocet.work.train.ahead.anchors import anchor_effect, cluster_for_page
from avocet.work.train.ahead.looks_ahead import draw_augmented, probe_run, sum_up_sizes
from avocet.work.train.ahead.plan import plan_run
from avocet.work.train.ahead.run_labels import labels_beside, labels_of_project, labels_of_snapshot
from avocet.work.train.runs import (
    get_run,
    model_path,
    start_run,
)
from tests.conftest import task_of
from tests.work.conftest import QUICK, do


def only(session, project_id, part):
    return [p for p in session.query(Picture).filter(Picture.project_id == project_id) if p.part == part]


def test_plan_says_what_stands_in_the_way(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        plan = plan_run(now(session, labelled))
        assert (plan.training, plan.validation, plan.obstacles) == (4, 2, [])
        assert plan.boxes_by_class["roll"] == sum(
            box.class_id == 1 for p in only(session, labelled, Part.TRAINING) for box in p.boxes
        )
        assert any("only" in warning for warning in plan.warnings)
        for picture in only(session, labelled, Part.VALIDATION):
            picture.part = Part.TEST
        assert plan_run(now(session, labelled)).obstacles == [
            "No labelled picture is in the validation part; split the pictures"
        ]
        with pytest.raises(InputError, match="validation part"):
            start_run(session, folder, labelled, QUICK)


def test_before_the_split_side_and_anchors_come_from_all_that_is_labelled(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        pictures = session.query(Picture).filter(Picture.project_id == labelled).all()
        for picture in pictures:
            picture.part = Part.TRAINING
        session.flush()
        split = plan_run(now(session, labelled))
        for picture in pictures:
            picture.part = None
        session.flush()
        before = plan_run(now(session, labelled))
        assert before.sized == split.sized == session.query(Box).count()
        assert (before.sides, before.advised_side, before.side) == (
            split.sides,
            split.advised_side,
            split.side,
        )
        assert before.epochs * before.passes == split.epochs * split.passes
        assert (before.training, before.unassigned) == (0, 6)
        assert before.obstacles == [
            "No labelled picture is in the training or the validation part; split the pictures"
        ]
        sizes = now(session, labelled).learnt_sizes(96)[0]
        assert anchor_effect(now(session, labelled), 96, [sizes[:1].tolist()]).mean_iou > 0.3
        session.query(Box).delete()
        session.flush()
        empty = plan_run(now(session, labelled))
        assert empty.sized == 0
        with pytest.raises(InputError, match="no labelled picture holds a box"):
            anchor_effect(now(session, labelled), 96, [[(10, 10)]])


def test_class_that_only_validation_has_is_an_obstacle(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        ids = [p.id for p in only(session, labelled, Part.TRAINING)]
        session.query(Box).filter(Box.picture_id.in_(ids), Box.class_id == 1).delete()
        session.expire_all()
        plan = plan_run(now(session, labelled))
        assert any(
            o.startswith("Class 'roll' has") and "none in the training part" in o for o in plan.obstacles
        )


@pytest.mark.slow
def test_class_without_boxes_is_warned_of_and_learnt_around(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        add_class(session, labelled, "baguette")
        assert (
            "Class 'baguette' has no training box and will never be found"
            in plan_run(now(session, labelled)).warnings
        )
        # Long enough that the class is unlearnt.
        run = start_run(session, folder, labelled, QUICK | {"epochs": 12})
        run_id, job_id = run.id, run.job_id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        run = get_run(session, run_id)
        assert run.job.state == JobState.DONE, run.job.message
        figures = run.epochs[-1].figures["validation"]["by_class"]["baguette"]
        assert figures == {"ap50": None, "ap": None, "truths": 0, "predicted": 0}


def test_nothing_labelled_is_an_obstacle(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        for picture in session.query(Picture):
            picture.boxes, picture.state = [], PictureState.UNLABELLED
        session.flush()
        assert plan_run(now(session, labelled)).obstacles == [
            "No picture is done yet; draw the boxes of some in Collect and press Enter on each"
        ]


class Tells:
    """A reporter that writes down what it is told."""

    def __init__(self, told):
        self.told = told

    def progress(self, done, total, message=""):
        self.told.append((done, total))

    def should_stop(self):
        return False


class StopsAtOnce:
    def progress(self, done, total, message=""):
        pass

    def should_stop(self):
        return True


def now(session, project_id):
    """The labels that a run started now would learn from, which are those that it freezes."""
    labels = labels_of_project(session, project_id, read_columns(session, project_id))
    frozen = labels_of_snapshot(labels_now(session, project_id))
    assert labels.names == frozen.names
    for part in (Part.TRAINING, Part.VALIDATION):
        assert labels.counts(part).tolist() == frozen.counts(part).tolist()
    one, other = (np.sort(each.learnt_sizes(96)[0], axis=0) for each in (labels, frozen))
    np.testing.assert_allclose(one, other)
    return labels


def look(data, kind, project_id, reporter=SILENT, draw=1, **settings):
    """A look ahead at a small run."""
    chosen = {"side": 96, "epochs": 1, "batch": 2} | settings
    return task_of(data, kind, reporter, project_id=project_id, settings=chosen, snapshot_id=None, draw=draw)


def test_plan_advises_the_smallest_side_that_shows_the_boxes(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        assert plan_run(now(session, labelled)).side == plan_run(now(session, labelled)).advised_side
        plan = plan_run(now(session, labelled), 384)
        assert [each.side for each in plan.sides] == [256, 320, 384, 512, 640, 768, 1024]
        assert [each.small for each in plan.sides] == sorted(
            (each.small for each in plan.sides), reverse=True
        )
        assert plan.sides[2].cost == 1 and plan.sides[3].cost == pytest.approx((512 / 384) ** 2)
        assert plan.passes == 3 and plan.epochs == 220, "2,640 pictures of 4, three passes an epoch"
        for box in session.query(Box).join(Picture).filter(Picture.part == Part.TRAINING):
            box.x2, box.y2 = box.x1 + 10, box.y1 + 10
        session.flush()
        session.expire_all()
        own = plan_run(now(session, labelled)).own_side
        assert own == max(session.query(Picture).first().width, session.query(Picture).first().height)
        advised = max(each for each in (256, 320, 384, 512, 640, 768, 1024) if each <= own)
        assert plan_run(now(session, labelled)).side == advised, "what the boxes advise, unless one is chosen"
        plan = plan_run(now(session, labelled), 384)
        assert plan.advised_side == advised and plan.sides[2].small == 1
        assert any("boxes are under 8 pixels at side 384" in each for each in plan.warnings)
        assert any(
            "A batch of 64 is more than the 4" in each
            for each in plan_run(now(session, labelled), 384, 64).warnings
        )


def test_anchors_for_the_page_are_those_of_the_training(data, labelled, run_id):
    folder, sessions = data
    with sessions() as session:
        labels = now(session, labelled)
    sizes, _ = labels.learnt_sizes(96)
    found = cluster_for_page(look(data, CLUSTER_ANCHORS, labelled))
    assert (
        len(found.anchors) == 3
        and sum(map(len, found.anchors)) >= 3
        and len(found.curve) == 15
        and found.curve == sorted(found.curve)
    )
    assert sum(map(sum, found.fit.held)) == found.boxes == len(sizes)
    assert sum(found.by_level) == 3 * len(sizes), "smaller, as they are, larger"
    flat = [size for level in found.anchors for size in level]
    effect = anchor_effect(labels, 96, found.anchors)
    assert effect.mean_iou == pytest.approx(mean_best_iou(sizes, flat), abs=1e-3)
    assert effect.mean_iou > anchor_effect(labels, 96, [[], [], [[500, 500]]]).mean_iou
    with pytest.raises(InputError, match="above 0"):
        anchor_effect(labels, 96, [[[0, 3]]])
    with pytest.raises(Stopped):
        cluster_for_page(look(data, CLUSTER_ANCHORS, labelled, StopsAtOnce()))
    chosen = do(
        data, lambda s, f: start_run(s, f, labelled, QUICK | {"anchors": [[[9, 9]] * 2, [], [[70, 70]]]})
    )
    with sessions() as session:
        run = get_run(session, chosen)
        with zipfile.ZipFile(model_path(folder, run)) as bundle:
            card = json.loads(bundle.read("model.json"))
        assert card["anchors"] == [[[9.0, 9.0]] * 2, [], [[70.0, 70.0]]]


def test_what_is_not_learnt_has_no_part_in_the_anchors(data, labelled):
    """Crowds, and boxes marked to be ignored: what the page clusters is what the training does."""
    folder, sessions = data
    with sessions.begin() as session:
        picture = only(session, labelled, Part.TRAINING)[0]
        own = labels_of(picture)["boxes"][0]["class_id"]
        boxes = [
            NewBox(own, (0, 0, 30, 20)),
            NewBox(own, (0, 0, 92, 60), attributes={"ignore": True}),
            NewBox(own, (0, 0, 90, 62), crowd=True),
        ]
        save_labels(session, picture, picture.revision, boxes, PictureState.DONE)
    with sessions.begin() as session:
        page = now(session, labelled).learnt_sizes(96)[0]
        frozen = read_snapshot(folder, freeze(session, folder, labelled))
    training = input_sizes(labelled_pictures(folder, labelled, frozen, Part.TRAINING), 96)
    snapshot = labels_of_snapshot(frozen).learnt_sizes(96)[0]
    whole, part = (np.sort(each, axis=0) for each in (page, training))
    np.testing.assert_allclose(whole, part)
    np.testing.assert_allclose(np.sort(snapshot, axis=0), part)
    assert page.max() < 88, "neither the crowd nor the ignored box"


@pytest.mark.slow
def test_augmented_sheet_is_drawn_by_seed(data, labelled):
    folder = data[0]
    told = []
    first = draw_augmented(look(data, DRAW_AUGMENTED, labelled, Tells(told)))
    pixels = (folder.sheet(7) / "0.jpg").read_bytes()
    assert len(first.pictures) == 12 and first.width == 96
    assert told[0] == (0, 12) and told[-1] == (12, 12) and len(told) >= 12, "a sign of life with each picture"
    assert draw_augmented(look(data, DRAW_AUGMENTED, labelled)) == first
    assert (folder.sheet(7) / "0.jpg").read_bytes() == pixels
    assert draw_augmented(look(data, DRAW_AUGMENTED, labelled, draw=2)) != first


@pytest.mark.long
@pytest.mark.slow
def test_costs_are_said_beforehand(data, labelled):
    _, sessions = data
    sizes = sum_up_sizes(look(data, SUM_UP_SIZES, labelled)).sizes
    assert sizes["stint"].multiply_adds < sizes["dunlin"].multiply_adds < sizes["curlew"].multiply_adds
    with pytest.raises(Stopped):
        sum_up_sizes(look(data, SUM_UP_SIZES, labelled, StopsAtOnce()))
    estimate = probe_run(look(data, PROBE_RUN, labelled, epochs=4))
    assert estimate.seconds == pytest.approx(4 * estimate.seconds_per_epoch) and estimate.fits
    assert 1e8 < estimate.peak_memory < 5e9
    with pytest.raises(Stopped):
        probe_run(look(data, PROBE_RUN, labelled, StopsAtOnce()))
    with sessions.begin() as session:
        for picture in session.query(Picture):
            picture.part = Part.TEST
    with pytest.raises(InputError, match="training part"):
        probe_run(look(data, PROBE_RUN, labelled))


def test_a_snapshots_columns_are_kept_beside_it(frozen):
    folder, sessions, project_id, snapshot_id, held = frozen
    with sessions() as session:
        snapshot = get_snapshot(session, snapshot_id)
    expected = labels_of_snapshot(held)

    def same(labels):
        pairs = zip(astuple(labels.columns), astuple(expected.columns), strict=True)
        return labels.names == expected.names and all(np.array_equal(a, b) for a, b in pairs)

    beside = folder.snapshot_columns(project_id, snapshot.content_hash)
    assert beside.is_file() and same(labels_beside(folder, snapshot))
    # A snapshot of an earlier version has none: it is read from its file, and they are there afterwards.
    beside.unlink()
    assert same(labels_beside(folder, snapshot)) and beside.is_file()
