"""Before, during and after a run, through the work layer and the worker's own door."""

import csv
import io
import json
import zipfile

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.detector.model.predictor import Predictor
from avocet.jobs.worker import run_job
from avocet.store.tables import JobState, Part, Picture
from avocet.work.job_kinds import TRY_MODEL
from avocet.work.jobs import (
    create_job,
    get_job,
    request_stop,
)
from avocet.work.labels.boxes import NewBox, save_labels
from avocet.work.labels.classes import add_class
from avocet.work.problems import NotFound
from avocet.work.snapshots.snapshots import labels_now
from avocet.work.train import run_files, run_table
from avocet.work.train.ahead.plan import held_out_hash
from avocet.work.train.runs import (
    bin_run,
    describe_run,
    extend_run,
    get_run,
    list_runs,
    model_path,
    resume_run,
    start_run,
)
from avocet.work.train.studies import get_study, start_study, verdict
from avocet.work.train.trial import try_model
from avocet.work.train.watch import hints_of, watch_of, watched_epoch
from tests.conftest import task_of
from tests.work.conftest import QUICK, do


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
    tried = try_model(task_of(data, TRY_MODEL, run_id=run_id, picture_id=1))
    assert tried.epoch == 2 and len(tried.boxes) == len(tried.scores)
    with sessions.begin() as session:
        job_id = extend_run(session, folder, run_id, 1).job_id
        with pytest.raises(InputError, match="First is waiting; only a run that is done"):
            extend_run(session, folder, run_id, 1)
        with pytest.raises(InputError, match="stop it first"):
            bin_run(session, run_id, True)
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        run = get_run(session, run_id)
        assert run.job.state == JobState.DONE, run.job.message
        assert [each.epoch for each in run.epochs] == [1, 2, 3] and run.settings["extended"] == [1]
        assert try_model(task_of(data, TRY_MODEL, run_id=run_id, picture_id=1)).epoch == 3
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


@pytest.mark.slow
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


@pytest.mark.slow
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


@pytest.mark.slow
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


@pytest.mark.long
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


@pytest.mark.slow
def test_verdicts_in_words(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        study = start_study(session, folder, labelled, QUICK, 24, 1)
        assert verdict(study) is None
        for values, expected in (
            ([0.475, 0.677, 0.753, 0.793], "worth the labelling"),
            ([0.9] * 4, "little; look at labels"),
            ([0.2, 0.7, 0.3, 0.65], "cannot be told"),
        ):
            study.plan = [
                {"pictures": count, "seed": seed} for seed in (0, 1, 2) for count in (10, 20, 30, 40)
            ]
            study.results = [
                {"pictures": count, "seed": seed, "map": value, "map50": value}
                for seed in (0, 1, 2)
                for count, value in zip((10, 20, 30, 40), values, strict=True)
            ]
            assert expected in verdict(study).words


def test_resume_wants_a_run_that_ended(data, labelled, run_id):
    _, sessions = data
    with sessions.begin() as session:
        with pytest.raises(InputError, match="cannot be resumed: it is done"):
            resume_run(session, run_id)
        assert create_job(session, labelled, TRY_MODEL, "Try").id


def test_a_run_is_recorded(trained, labelled):
    folder, sessions, run_id = trained
    with sessions() as session:
        run = get_run(session, run_id)
        assert run.job.state == JobState.DONE, run.job.message
        assert [each.epoch for each in run.epochs] == [1, 2]
        held = [each for each in labels_now(session, labelled).pictures if each.part == Part.VALIDATION]
        by_class = run.epochs[-1].figures["validation"]["by_class"]
        assert sum(each["truths"] for each in by_class.values()) == sum(len(each.boxes) for each in held) > 0
        assert (
            run.best_epoch
            and model_path(folder, run).is_file()
            and model_path(folder, run, "latest").is_file()
        )
        card = Predictor.from_bundle(model_path(folder, run)).card
        assert card.classes == ["roll", "croissant", "loaf", "pretzel", "ring"]
        assert card.snapshot == run.snapshot.content_hash
        assert card.metrics["map50"] == run.best_map50
