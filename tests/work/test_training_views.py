"""Before, during and after a run, through the work layer and the worker's own door."""

import csv
import io
import json
import threading
import time
import zipfile

import numpy as np
import pytest

from avocet.core.anchors import mean_best_iou
from avocet.core.errors import InputError
from avocet.jobs.worker import run_job
from avocet.store.tables import Box, JobState, Part, Picture, Run
from avocet.work import run_files, run_table
from avocet.work.anchor_views import anchor_effect, cluster_for_page
from avocet.work.classes import add_class
from avocet.work.following import hints_of, watch_of, watched_epoch
from avocet.work.jobs import create_job, get_job, request_stop
from avocet.work.labels import NewBox, save_labels
from avocet.work.planning import box_sizes, held_out_hash, plan_run
from avocet.work.previews import draw_augmented, probe_run, sum_up_sizes, try_model
from avocet.work.problems import NotFound
from avocet.work.progress import Silent, Stopped
from avocet.work.runs import (
    bin_run,
    chosen_settings,
    describe_run,
    extend_run,
    get_run,
    list_runs,
    model_path,
    resume_run,
    start_run,
)
from avocet.work.snapshots import labels_now
from avocet.work.studies import get_study, start_study, verdict
from tests.work.test_learning import QUICK


class StopsAtOnce:
    def progress(self, done, total, message=""):
        pass

    def should_stop(self):
        return True


def do(data, make):
    """Record something that has a job, and do it as the worker would; its number."""
    folder, sessions = data
    with sessions.begin() as session:
        made = make(session, folder)
        number, job_id = made.id, made.job.id
    run_job(sessions, folder, job_id)
    return number


@pytest.fixture
def run_id(data, labelled):
    return do(data, lambda session, folder: start_run(session, folder, labelled, QUICK, "First"))


def given(session, project_id, **settings):
    frozen = labels_now(session, project_id)
    chosen = chosen_settings(plan_run(frozen), {"side": 96, "epochs": 1, "batch": 2} | settings)
    return {"project_id": project_id, "settings": chosen.as_record(), "side": chosen.side, "draw": 1, "job_id": 7,
            "classes": len(frozen.classes), "snapshot_id": None}  # fmt: skip


def test_plan_advises_the_smallest_side_that_shows_the_boxes(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        plan = plan_run(labels_now(session, labelled))
        assert [each.side for each in plan.sides] == [256, 320, 416, 512, 640, 832, 1024]
        assert [each.small for each in plan.sides] == sorted(
            (each.small for each in plan.sides), reverse=True
        )
        assert plan.sides[2].cost == 1 and plan.sides[3].cost == pytest.approx((512 / 416) ** 2)
        assert plan.passes == 3 and plan.epochs == 220, "2,640 pictures of 4, three passes an epoch"
        for box in session.query(Box).join(Picture).filter(Picture.part == Part.TRAINING):
            box.x2, box.y2 = box.x1 + 10, box.y1 + 10
        session.flush()
        session.expire_all()
        plan = plan_run(labels_now(session, labelled))
        assert plan.advised_side == 832 and plan.sides[2].small == 1
        assert any("boxes are under 8 pixels at side 416" in each for each in plan.warnings)
        assert any(
            "A batch of 64 is more than the 4" in each
            for each in plan_run(labels_now(session, labelled), 416, 64).warnings
        )


def test_anchors_for_the_page_are_those_of_the_training(data, labelled, run_id):
    folder, sessions = data
    with sessions() as session:
        asked = given(session, labelled)
        sizes, _ = box_sizes(labels_now(session, labelled), 96)
    found = cluster_for_page(sessions, folder, asked, Silent())
    assert (
        len(found["anchors"]) == 9 and len(found["curve"]) == 15 and found["curve"] == sorted(found["curve"])
    )
    assert sum(found["fit"]["held"]) == found["boxes"] == len(sizes)
    with sessions() as session:
        effect = anchor_effect(session, folder, labelled, 96, found["anchors"])
        assert effect.mean_iou == pytest.approx(mean_best_iou(sizes, found["anchors"]), abs=1e-3)
        assert effect.mean_iou > anchor_effect(session, folder, labelled, 96, [[500, 500]]).mean_iou
        with pytest.raises(InputError, match="above 0"):
            anchor_effect(session, folder, labelled, 96, [[0, 3]])
    with pytest.raises(Stopped):
        cluster_for_page(sessions, folder, asked, StopsAtOnce())
    chosen = do(data, lambda s, f: start_run(s, f, labelled, QUICK | {"anchors": [[9, 9]] * 9}))
    with sessions() as session:
        run = get_run(session, chosen)
        with zipfile.ZipFile(model_path(folder, run)) as bundle:
            card = json.loads(bundle.read("model.json"))
        assert card["anchors"] == [[[9.0, 9.0]] * 3] * 3


def test_augmented_sheet_is_drawn_by_seed(data, labelled):
    folder, sessions = data
    with sessions() as session:
        asked = given(session, labelled)
    first = draw_augmented(sessions, folder, asked, Silent())
    pixels = (folder.sheet(7) / "0.jpg").read_bytes()
    assert len(first["pictures"]) == 12 and first["width"] == 96
    assert draw_augmented(sessions, folder, asked, Silent()) == first
    assert (folder.sheet(7) / "0.jpg").read_bytes() == pixels
    assert draw_augmented(sessions, folder, asked | {"draw": 2}, Silent()) != first


@pytest.mark.slow
def test_costs_are_said_beforehand(data, labelled):
    folder, sessions = data
    with sessions() as session:
        asked = given(session, labelled, epochs=4)
    sizes = sum_up_sizes(sessions, folder, asked, Silent())["sizes"]
    assert (
        sizes["stint"]["multiply_adds"] < sizes["dunlin"]["multiply_adds"] < sizes["curlew"]["multiply_adds"]
    )
    estimate = probe_run(sessions, folder, asked, Silent())
    assert estimate["seconds"] == pytest.approx(4 * estimate["seconds_per_epoch"]) and estimate["fits"]
    assert 1e8 < estimate["peak_memory"] < 5e9
    with pytest.raises(Stopped):
        probe_run(sessions, folder, asked, StopsAtOnce())
    with sessions.begin() as session:
        for picture in session.query(Picture):
            picture.part = Part.TEST
    with pytest.raises(InputError, match="training part"):
        probe_run(sessions, folder, asked, Silent())


def test_watch_pictures_are_kept_epoch_by_epoch(data, labelled, run_id):
    folder, sessions = data
    with sessions() as session:
        watch = watch_of(session, folder, run_id)
        held = [p.id for p in session.query(Picture).filter(Picture.part == Part.VALIDATION)]
        assert watch.epochs == [1, 2] and {each.id for each in watch.pictures} == set(held)
        for epoch in watch.epochs:
            kept = watched_epoch(session, folder, run_id, epoch)
            assert len(kept) == 2
            for each in kept:
                assert len(each["boxes"]) == len(each["scores"]) == len(each["classes"]) <= 100
                assert each["scores"] == sorted(each["scores"], reverse=True)
        with pytest.raises(NotFound, match="of epoch 9 of First"):
            watched_epoch(session, folder, run_id, 9)
    chosen = do(data, lambda s, f: start_run(s, f, labelled, QUICK, watched=held[1:]))
    with sessions.begin() as session:
        assert [each.id for each in watch_of(session, folder, chosen).pictures] == held[1:]
        with pytest.raises(InputError, match="picture 1 is not a validation picture"):
            start_run(session, folder, labelled, QUICK, watched=[1])


def test_a_run_can_be_tried_extended_named_exported_and_binned(data, labelled, run_id):
    folder, sessions = data
    tried = try_model(sessions, folder, {"run_id": run_id, "picture_id": 1}, Silent())
    assert tried["epoch"] == 2 and len(tried["boxes"]) == len(tried["scores"])
    with sessions.begin() as session:
        job_id = extend_run(session, run_id, 1).job_id
        with pytest.raises(InputError, match="First is waiting; only a run that is done"):
            extend_run(session, run_id, 1)
        with pytest.raises(InputError, match="stop it first"):
            bin_run(session, run_id, True)
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        run = get_run(session, run_id)
        assert run.job.state == JobState.DONE, run.job.message
        assert [each.epoch for each in run.epochs] == [1, 2, 3] and run.settings["extended"] == [1]
        assert try_model(sessions, folder, {"run_id": run_id, "picture_id": 1}, Silent())["epoch"] == 3
        describe_run(session, run_id, "Renamed", "with a note")
        with pytest.raises(InputError, match="needs a name"):
            describe_run(session, run_id, "  ", None)
        assert run.facts["environment"]["threads"] >= 1 and run.facts["environment"]["trained_share"] == 1
        assert hints_of(run) == []
    with sessions.begin() as session:
        run = get_run(session, run_id)
        run_files.export_run(session, folder, run, folder.root / "out.zip")
        with zipfile.ZipFile(folder.root / "out.zip") as archive:
            about = json.loads(archive.read("run.json"))
            rows = list(csv.DictReader(io.StringIO(archive.read("metrics.csv").decode())))
            log = archive.read("log.txt").decode()
            assert {"best.zip", "latest.zip"} <= set(archive.namelist())
        assert about["note"] == "with a note" and about["settings"]["side"] == 96
        assert [row["epoch"] for row in rows] == ["1", "2", "3"]
        assert float(rows[2]["validation_map50"]) == run.epochs[2].figures["validation"]["map50"]
        assert "Resumes after epoch 2" in log and "Epoch 3: loss" in log
        bin_run(session, run_id, True)
        assert list_runs(session, labelled) == [] and len(list_runs(session, labelled, binned=True)) == 1
        bin_run(session, run_id, False)
        assert len(list_runs(session, labelled)) == 1


def test_starting_from_an_earlier_run_with_one_more_class(data, labelled, run_id):
    folder, sessions = data
    with sessions.begin() as session:
        more = add_class(session, labelled, "baguette")
        picture = session.get(Picture, 1)
        boxes = [NewBox(box.class_id, box.corners) for box in picture.boxes] + [
            NewBox(more.id, (5, 5, 60, 40))
        ]
        save_labels(session, picture, picture.revision, boxes, picture.state)
    second = do(data, lambda s, f: start_run(s, f, labelled, QUICK | {"side": 128}, "Second", start=run_id))
    with sessions.begin() as session:
        facts = get_run(session, second).facts
        assert get_run(session, second).job.state == JobState.DONE
        assert facts["start"] == "run First" and facts["new_classes"] == ["baguette"]
        assert "New classes: baguette" in facts["transfer"] and facts["transfer_share"] > 0.99
        with pytest.raises(InputError, match="'First' is a Stint; its weights do not fit a Dunlin"):
            start_run(session, folder, labelled, QUICK | {"size": "dunlin"}, start=run_id)
        with pytest.raises(InputError, match="no such model bundle"):
            start_run(session, folder, labelled, QUICK, start=folder.root / "gone.zip")
        (folder.root / "notes.txt").write_text("not weights")
    third = do(data, lambda s, f: start_run(s, f, labelled, QUICK, start=folder.root / "notes.txt"))
    with sessions() as session:
        job = get_run(session, third).job
        assert job.state == JobState.FAILED and job.message.startswith("notes.txt is not a model bundle")
    shipped = do(
        data, lambda s, f: start_run(s, f, labelled, QUICK | {"freeze_backbone": True}, start="shipped")
    )
    with sessions() as session:
        assert get_run(session, shipped).facts["environment"]["trained_share"] < 0.3


def test_runs_side_by_side(data, labelled):
    _, sessions = data
    folder, _ = data
    with sessions.begin() as session:
        runs = [
            start_run(session, folder, labelled, QUICK | {"seed": seed, "batch": batch})
            for seed in (0, 1)
            for batch in (2, 4)
        ]
        for run, value in zip(runs, (0.4, 0.6, 0.5, 0.8), strict=True):
            run.best_map, run.best_map50, run.best_epoch = value, value + 0.1, 1
        assert run_table.differing(runs) == ["size", "side", "batch", "seed"]
        groups = run_table.group_runs(runs, "batch")
        assert [(g.value, g.runs) for g in groups] == [
            ("4", [runs[1].id, runs[3].id]),
            ("2", [runs[0].id, runs[2].id]),
        ]
        assert groups[0].mean_map == pytest.approx(0.7)
        assert groups[0].spread_map == pytest.approx(np.std([0.6, 0.8], ddof=1))
        assert groups[0].comparable and run_table.group_runs(runs[:1], "size")[0].spread_map is None
        with pytest.raises(InputError, match="no setting 'mood'"):
            run_table.group_runs(runs, "mood")
        frozen = labels_now(session, labelled)
        assert {run.held_out for run in runs} == {held_out_hash(frozen)}
        add_class(session, labelled, "baguette")
        assert held_out_hash(labels_now(session, labelled)) == held_out_hash(frozen)
        held = session.query(Picture).filter(Picture.part == Part.VALIDATION).first()
        held.boxes[0].x1 += 1
        session.flush()
        later = start_run(session, folder, labelled, QUICK)
        assert later.held_out != runs[0].held_out
        later.best_map = later.best_map50 = 0.5
        assert not run_table.group_runs([*runs, later], "side")[0].comparable
        # Labels of training pictures are another matter: the figures still compare.
        session.query(Picture).filter(Picture.part == Part.TRAINING).first().boxes[0].x1 += 1
        session.flush()
        assert start_run(session, folder, labelled, QUICK).held_out == later.held_out


def test_runs_of_before_are_still_read(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        run = start_run(session, folder, labelled, QUICK)
        run.settings = {
            "size": "stint",
            "side": 96,
            "epochs": 1,
            "batch": 2,
            "seed": 0,
            "learning_rate": 0.003,
            "flips": "all",
        }
        assert run_table.flat_settings(run)["flips"] == "all"
        run_id, job_id = run.id, run.job_id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        assert get_run(session, run_id).job.state == JobState.DONE


def test_two_runs_started_at_once_are_both_done(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        runs = [start_run(session, folder, labelled, QUICK | {"epochs": 1}) for _ in range(2)]
        numbers, jobs = [run.id for run in runs], [run.job_id for run in runs]
    for job_id in (*jobs, jobs[0]):  # queued twice is done once
        run_job(sessions, folder, job_id)
    with sessions() as session:
        assert [get_run(session, number).job.state for number in numbers] == [JobState.DONE] * 2
        assert [get_run(session, number).name for number in numbers] == ["Stint 1", "Stint 2"]


@pytest.mark.slow
def test_a_database_locked_for_seconds_loses_nothing(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        run = start_run(session, folder, labelled, QUICK)
        run_id, job_id = run.id, run.job_id
    held, done = threading.Event(), threading.Event()

    def hold():
        with sessions.begin() as session:
            session.query(Run).first().note = "held"
            session.flush()
            held.set()
            time.sleep(3)
        done.set()

    thread = threading.Thread(target=hold)
    thread.start()
    held.wait()
    run_job(sessions, folder, job_id)
    thread.join()
    with sessions() as session:
        run = get_run(session, run_id)
        assert done.is_set() and run.job.state == JobState.DONE, run.job.message
        assert [each.epoch for each in run.epochs] == [1, 2] and run.note == "held"


def test_pictures_read_where_they_lie_are_trained_on(data, labelled, tmp_path):
    folder, sessions = data
    with sessions.begin() as session:
        picture = session.get(Picture, 1)
        inside = folder.picture(labelled, picture.content_hash, picture.suffix)
        outside = tmp_path / "shelf.jpg"
        inside.rename(outside)
        status = outside.stat()
        picture.path, picture.file_size, picture.file_time = str(outside), status.st_size, status.st_mtime_ns
    number = do(data, lambda s, f: start_run(s, f, labelled, QUICK | {"epochs": 1}))
    with sessions() as session:
        assert get_run(session, number).job.state == JobState.DONE
    outside.write_bytes(b"another")
    again = do(data, lambda s, f: start_run(s, f, labelled, QUICK | {"epochs": 1}))
    with sessions() as session:
        job = get_run(session, again).job
        assert job.state == JobState.FAILED and "was changed on disk after it was added" in job.message


@pytest.mark.slow
def test_a_study_is_done_piece_by_piece(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        with pytest.raises(InputError, match="20 to 100,000 steps"):
            start_study(session, folder, labelled, QUICK, 5, 1)
        study = start_study(session, folder, labelled, QUICK, 24, 1)
        study_id, job_id = study.id, study.job_id
        assert [each["pictures"] for each in study.plan] == [1, 2, 3, 4]
    with sessions.begin() as session:
        request_stop(session, job_id)
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        assert get_job(session, job_id).state == JobState.STOPPED
        study = get_study(session, study_id)
        # As if the first were done already: it is not trained again.
        study.results = [study.plan[0] | {"map": 0.123, "map50": 0.2}]
        study.job.state = JobState.WAITING
        study.job.stop_requested = False
    run_job(sessions, folder, job_id)
    with sessions() as session:
        study = get_study(session, study_id)
        assert study.job.state == JobState.DONE, study.job.message
        assert [each["pictures"] for each in study.results] == [1, 2, 3, 4] and study.results[0][
            "map"
        ] == 0.123
        said = verdict(study)
        assert said.pictures == 4 and "Twice as many pictures (8)" in said.words
        assert not folder.study(labelled, study_id).exists()


def test_verdicts_in_words(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        study = start_study(session, folder, labelled, QUICK, 24, 1)
        assert verdict(study) is None
        for values, expected in (
            ([0.475, 0.677, 0.753, 0.793], "worth the labelling"),
            ([0.9, 0.9, 0.9, 0.9], "little; look at labels"),
            ([0.2, 0.7, 0.3, 0.65], "er"),
        ):
            study.plan = [{"pictures": count, "seed": 0} for count in (10, 20, 30, 40)]
            study.results = [
                {"pictures": count, "seed": 0, "map": value, "map50": value}
                for count, value in zip((10, 20, 30, 40), values, strict=True)
            ]
            assert expected in verdict(study).words


def test_resume_wants_a_run_that_ended(data, labelled, run_id):
    _, sessions = data
    with sessions.begin() as session:
        with pytest.raises(InputError, match="cannot be resumed: it is done"):
            resume_run(session, run_id)
        assert create_job(session, labelled, "try_model", "Try").id
