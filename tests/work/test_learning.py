"""Runs, evaluations and detections through the worker's own door."""

import csv
import datetime as dt
import json
import shutil

import numpy as np
import pytest

from avocet.core.candidates import Candidates
from avocet.core.errors import InputError
from avocet.detector.predictor import Predictor
from avocet.jobs.worker import run_job
from avocet.media.clips import ClipWriter, clip_info
from avocet.store.tables import Box, JobState, Part, Picture, PictureState
from avocet.work.classes import add_class
from avocet.work.detecting import Input, detect, gather
from avocet.work.detections import get_detection, result_file, start_detection
from avocet.work.evaluations import Order, get_evaluation, start_evaluation
from avocet.work.jobs import (
    JobReporter,
    claim,
    create_job,
    get_job,
    mark_interrupted,
    request_stop,
    seconds_left,
    waiting_jobs,
)
from avocet.work.measured import Measured
from avocet.work.measuring import measure, truths_in
from avocet.work.planning import plan_run
from avocet.work.problems import NotFound
from avocet.work.progress import Silent, Stopped
from avocet.work.runs import get_run, kept_models, model_path, resume_run, start_run
from avocet.work.snapshots import labelled_pictures, labels_now, read_snapshot
from tests.work.conftest import QUICK


def test_a_run_is_recorded(trained):
    folder, sessions, run_id = trained
    with sessions() as session:
        run = get_run(session, run_id)
        assert run.job.state == JobState.DONE, run.job.message
        assert [each.epoch for each in run.epochs] == [1, 2]
        assert run.epochs[-1].figures["validation"]["by_class"]["roll"]["truths"] >= 0
        assert (
            run.best_epoch
            and model_path(folder, run).is_file()
            and model_path(folder, run, "latest").is_file()
        )
        card = Predictor.from_bundle(model_path(folder, run)).card
        assert card.classes == ["roll", "croissant", "loaf", "pretzel", "ring"]
        assert card.snapshot == run.snapshot.content_hash
        assert card.metrics["map50"] == run.best_map50


def test_interrupted_run_goes_on(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        run = start_run(session, folder, labelled, QUICK | {"epochs": 3})
        run_id, job_id = run.id, run.job_id
        claim(session, job_id)
    with sessions.begin() as session:
        assert mark_interrupted(session, {"train"}) == 1
        assert get_job(session, job_id).state == JobState.INTERRUPTED
        resume_run(session, run_id)
        with pytest.raises(InputError, match="cannot be resumed: it is waiting"):
            resume_run(session, run_id)
    run_job(sessions, folder, job_id)
    with sessions() as session:
        assert [each.epoch for each in get_run(session, run_id).epochs] == [1, 2, 3]


def test_a_command_is_taken_for_dead_only_when_long_silent(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        job = create_job(session, labelled, "train", "Train")
        claim(session, job.id, by_command=True)
        assert mark_interrupted(session, {"train"}) == 0 and waiting_jobs(session, {"train"}) == []
        job.heartbeat_at -= dt.timedelta(minutes=5)
        session.flush()
        assert mark_interrupted(session, {"train"}) == 1
        waiting = create_job(session, labelled, "train", "Train")
        assert waiting_jobs(session, {"train"}) == [waiting.id]


def test_stopped_before_it_began(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        job_id = start_run(session, folder, labelled, QUICK).job_id
        request_stop(session, job_id)
    run_job(sessions, folder, job_id)
    with sessions() as session:
        assert get_job(session, job_id).state == JobState.STOPPED


def test_unexpected_errors_end_a_job_too(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        job_id = create_job(session, labelled, "train", "Train nothing", {}).id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        job = get_job(session, job_id)
        assert job.state == JobState.FAILED and "KeyError" in job.message


def test_progress_is_recorded_and_stop_is_seen(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        job_id = create_job(session, labelled, "train", "Train").id
        claim(session, job_id)
    reporter = JobReporter(sessions, job_id)
    reporter.progress(1, 4, "first")
    assert not reporter.should_stop()
    with sessions.begin() as session:
        assert seconds_left(get_job(session, job_id)) >= 0
        request_stop(session, job_id)
    reporter.progress(4, 4, "last")
    assert reporter.should_stop()


def only(session, project_id, part):
    return [p for p in session.query(Picture).filter(Picture.project_id == project_id) if p.part == part]


def test_plan_says_what_stands_in_the_way(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        plan = plan_run(labels_now(session, labelled))
        assert (plan.training, plan.validation, plan.obstacles) == (4, 2, [])
        assert plan.boxes_by_class["roll"] == sum(
            box.class_id == 1 for p in only(session, labelled, Part.TRAINING) for box in p.boxes
        )
        assert any("only" in warning for warning in plan.warnings)
        for picture in only(session, labelled, Part.VALIDATION):
            picture.part = Part.TEST
        assert plan_run(labels_now(session, labelled)).obstacles == [
            "No labelled picture is in the validation part; split the pictures"
        ]
        with pytest.raises(InputError, match="validation part"):
            start_run(session, folder, labelled, QUICK)


def test_class_that_only_validation_has_is_an_obstacle(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        ids = [p.id for p in only(session, labelled, Part.TRAINING)]
        session.query(Box).filter(Box.picture_id.in_(ids), Box.class_id == 1).delete()
        session.expire_all()
        plan = plan_run(labels_now(session, labelled))
        assert any(
            o.startswith("Class 'roll' has") and "none in the training part" in o for o in plan.obstacles
        )


def test_class_without_boxes_is_warned_of_and_learnt_around(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        add_class(session, labelled, "baguette")
        assert (
            "Class 'baguette' has no training box and will never be found"
            in plan_run(labels_now(session, labelled)).warnings
        )
        run = start_run(session, folder, labelled, QUICK)
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
        assert plan_run(labels_now(session, labelled)).obstacles == [
            "No picture is labelled yet; draw some boxes in Collect first"
        ]


def test_evaluation_counts_what_the_pictures_show(trained):
    folder, sessions, run_id = trained
    with sessions.begin() as session:
        with pytest.raises(InputError, match="no labelled picture in the test part"):
            start_evaluation(session, folder, 1, Order(run_id, part=Part.TEST))
        with pytest.raises(InputError, match="choose one model"):
            start_evaluation(session, folder, 1, Order())
        evaluation = start_evaluation(session, folder, 1, Order(run_id))
        evaluation_id, job_id = evaluation.id, evaluation.job_id
        with pytest.raises(NotFound, match="not done"):
            Measured.opened(folder, evaluation)
    run_job(sessions, folder, job_id)
    with sessions() as session:
        evaluation = get_evaluation(session, evaluation_id)
        assert evaluation.job.state == JobState.DONE, evaluation.job.message
        measured, report = Measured.opened(folder, evaluation), evaluation.report
        run = get_run(session, run_id)
    assert report["pictures"] == 2 and report["map50"] == pytest.approx(run.best_map50, abs=0.02)
    for score in (0.01, 0.9):
        for index, row in enumerate(measured.wall(score, 0.5)):
            boxes = measured.compare(index, score, 0.5)
            assert row["hits"] + row["misses"] == len(measured.pictures[index].boxes) == len(boxes["truths"])
            assert row["hits"] + row["false_alarms"] == len(boxes["predictions"])
            for number, truth in enumerate(boxes["truths"]):
                if truth["partner"] is not None:
                    assert boxes["predictions"][truth["partner"]]["partner"] == number
    assert all(row["hits"] == 0 for row in measured.wall(1.0, 0.5))


def test_a_measurement_says_which_checkpoint_it_is_of(trained):
    folder, sessions, run_id = trained
    with sessions.begin() as session:
        run = get_run(session, run_id)
        best = model_path(folder, run)
        shutil.copy(best, best.with_name("epoch-00010.zip"))
        assert kept_models(folder, run) == ["best", "latest", "epoch-00010"]
        orders = [Order(run_id, checkpoint=name) for name in kept_models(folder, run)]
        names = [start_evaluation(session, folder, 1, order).name for order in orders]
        assert names == [run.name, f"{run.name}, latest", f"{run.name}, epoch 10"]
        with pytest.raises(NotFound, match="epoch-00011"):
            start_evaluation(session, folder, 1, Order(run_id, checkpoint="epoch-00011"))


def test_measuring_perfect_and_useless_answers(data, trained):
    folder, sessions, run_id = trained
    with sessions() as session:
        run = get_run(session, run_id)
        frozen = read_snapshot(folder, run.snapshot)
    pictures = labelled_pictures(folder, run.project_id, frozen, Part.VALIDATION)
    perfect = [Candidates(p.boxes, np.linspace(0.9, 0.8, len(p.boxes)), p.classes) for p in pictures]
    nothing = [Candidates(np.zeros((0, 4)), np.zeros(0), np.zeros(0, np.int64)) for _ in pictures]
    truths = truths_in(pictures)
    good, bad = measure(frozen.classes, truths, perfect), measure(frozen.classes, truths, nothing)
    assert good["map"] == good["map75"] == 1.0 and bad["map50"] == 0.0
    assert good["map_interval"] == [1.0, 1.0] and bad["map50_interval"] == [0.0, 0.0]
    assert (good["flawless"], bad["flawless"]) == (len(pictures), 0)
    counted = sum(len(picture.boxes) for picture in pictures)
    assert sum(each["truths"] for each in good["sizes"].values()) == counted
    assert sum(each["hits"] for each in good["classes"].values()) == counted
    assert sum(each["misses"] for each in bad["classes"].values()) == counted
    assert good["recall"]["100"] == 1.0 and good["recall"]["1"] <= 1.0


def write_clip(path, frames):
    with ClipWriter(path, 960, 540, 10) as writer:
        for frame in frames:
            writer.write(frame.pixels)


def test_detection_over_pictures_and_a_clip(trained, frames, tmp_path, made_once):
    folder, sessions, run_id = trained
    write_clip(tmp_path / "belt.mp4", frames[:3])
    bad = tmp_path / "bad.png"
    bad.write_text("no picture")
    with sessions.begin() as session:
        names = [
            (tmp_path / "belt.mp4", "in/belt.mp4"),
            (made_once / "still-0.jpg", "in/still.jpg"),
            (bad, "in/bad.png"),
        ]
        detection = start_detection(session, folder, run_id, {}, 0.01, 0.5, names)
        detection_id, job_id = detection.id, detection.job_id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        detection = get_detection(session, detection_id)
        assert detection.job.state == JobState.DONE, detection.job.message
    summary = detection.summary
    assert summary["pictures"] == 4 and summary["frames_per_second"] > 0
    assert summary["problems"] == ["in/bad.png is not a JPEG, PNG, WebP, BMP or TIFF picture"]
    document = json.loads(result_file(folder, detection, "detections.json").read_text())
    assert [p["name"] for p in document["pictures"]] == ["in/still.jpg"] + ["in/belt.mp4"] * 3
    assert [p.get("frame") for p in document["pictures"]] == [None, 0, 1, 2]
    rows = list(csv.DictReader(result_file(folder, detection, "detections.csv").open()))
    assert len(rows) == summary["detections"] == sum(len(p["detections"]) for p in document["pictures"])
    for picture in document["pictures"]:
        for found in picture["detections"]:
            x1, y1, x2, y2 = found["box"]
            assert 0 <= x1 < x2 <= 960 and 0 <= y1 < y2 <= 540 and found["score"] >= 0.01
    assert clip_info(result_file(folder, detection, "annotated/in/belt.mp4")).frames == 3
    for name in ("../../../avocet.sqlite", "input/000000.mp4", "gone.jpg"):
        with pytest.raises(NotFound):
            result_file(folder, detection, name)


def test_stopped_detection_keeps_what_it_found(trained, frames, tmp_path):
    folder, sessions, run_id = trained
    write_clip(tmp_path / "belt.mp4", [frames[0]] * 20)
    with sessions() as session:
        predictor = Predictor.from_bundle(model_path(folder, get_run(session, run_id)))

    class StopsAtOnce(Silent):
        def should_stop(self):
            return True

    with pytest.raises(Stopped):
        detect(
            predictor, [Input(tmp_path / "belt.mp4", "belt.mp4")], tmp_path / "out", 0.5, 0.5, StopsAtOnce()
        )
    assert clip_info(tmp_path / "out" / "annotated" / "belt.mp4").frames == 8
    assert len(json.loads((tmp_path / "out" / "detections.json").read_text())["pictures"]) == 8


def test_inputs_are_gathered_and_named(tmp_path, frames):
    (tmp_path / "a").mkdir()
    write_clip(tmp_path / "a" / "x.mp4", frames[:1])
    (tmp_path / "a" / "notes.txt").write_text("")
    (tmp_path / "empty").mkdir()
    assert [each.name for each in gather([tmp_path / "a"])] == ["x.mp4"]
    for path, expected in (
        (tmp_path / "empty", "no picture and no clip"),
        (tmp_path / "gone", "no such file or folder"),
        (tmp_path / "a" / "notes.txt", "neither a picture nor a clip"),
    ):
        with pytest.raises(InputError, match=expected):
            gather([path])
