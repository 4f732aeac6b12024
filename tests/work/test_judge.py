"""Measurements: truths and detections from outside, labels put in doubt, comparisons."""

import json
import shutil
import zipfile

import numpy as np
import pytest

from avocet.core.detections import PictureTruth
from avocet.core.errors import InputError
from avocet.core.raw.candidates import Candidates
from avocet.core.score.chance.paired import Difference
from avocet.jobs.worker import run_job
from avocet.media.pictures import read_picture
from avocet.store.tables import JobState, ObjectClass, Part, Picture, PictureState
from avocet.work.jobs import get_job
from avocet.work.judge.answers import (
    calibration_of,
    confused_boxes,
    confusion_of,
    curves_of,
    mistaken_boxes,
    mistakes_of,
)
from avocet.work.judge.beside import in_words, put_side_by_side
from avocet.work.judge.doubts import accept_prediction, call_it_fine, list_doubts
from avocet.work.judge.evaluations import (
    Order,
    bin_evaluation,
    count_look,
    get_evaluation,
    list_evaluations,
    looks_at_test,
    measure_again,
    start_evaluation,
)
from avocet.work.judge.files import detections_json, report_csv, report_json
from avocet.work.judge.opened import Measured
from avocet.work.judge.report import measure
from avocet.work.labels.boxes import NewBox, labels_of, save_labels
from avocet.work.labels.undo import undo_change
from avocet.work.pictures.listing import Filter
from avocet.work.problems import NotFound
from avocet.work.snapshots.frozen import labelled_pictures
from avocet.work.snapshots.snapshots import freeze, read_snapshot
from avocet.work.train.runs import get_run, kept_models, model_path
from tests.conftest import write_coco_set
from tests.listed import pictures_of
from tests.work.conftest import opened


def results(content, part, change=lambda rows: rows):
    """Detections that repeat the labels of a part, with ids as in the snapshot's COCO export."""
    rows = [
        {"image_id": number, "category_id": box[0] + 1, "score": 0.9,
         "bbox": [box[1], box[2], box[3] - box[1], box[4] - box[2]]}
        for number, picture in enumerate(content.pictures, start=1)
        if picture.part == part
        for box in picture.boxes
    ]  # fmt: skip
    return change(rows)


def measure_detections(frozen, path, rows, part=Part.VALIDATION, **order):
    """Measure detections on a part of the snapshot, as the worker does."""
    folder, sessions, project_id, snapshot_id, _ = frozen
    path.write_text(json.dumps(rows))
    with sessions.begin() as session:
        wanted = Order(snapshot_id=snapshot_id, part=part, **order)
        evaluation = start_evaluation(session, folder, project_id, wanted, {"detections": (path, path.name)})
        evaluation_id, job_id = evaluation.id, evaluation.job_id
    run_job(sessions, folder, job_id)
    return evaluation_id


def assert_classes_add_up(measured, score):
    """What is counted of each class is what the stage marks, picture by picture."""
    stages = [measured.compare(index, score, 0.5) for index in range(len(measured.pictures))]
    for number, row in enumerate(measured.wall(score, 0.5).classes):
        marks = [
            (kind, box["mark"])
            for stage in stages
            for kind in ("truths", "predictions")
            for box in stage[kind]
            if box["class_index"] == number
        ]
        assert row == {
            "name": measured.classes[number],
            "hits": marks.count(("predictions", "hit")),
            "misses": marks.count(("truths", "miss")),
            "false_alarms": marks.count(("predictions", "false_alarm")),
        }


@pytest.mark.slow
def test_detections_of_another_program_are_measured(frozen, tmp_path):
    perfect = measure_detections(frozen, tmp_path / "found.json", results(frozen[4], Part.VALIDATION))
    measured, evaluation = opened(frozen, perfect)
    report = evaluation.report
    assert report["map"] == report["map50"] == 1 and report["flawless"] == report["pictures"] == 2
    assert report["overlap_limit"] == 1 and evaluation.name == "found.json"
    assert all(entry["count"] == 0 for entry in report["mistakes"].values())
    assert all(
        row["misses"] == row["false_alarms"] == 0 and row["lowest_iou"] > 0.99
        for row in measured.wall(0.5, 1).pictures
    )
    table = report_csv(report, measured, 0.5, 1).splitlines()
    assert table[0].startswith("class,AP at IoU 0.5,from,to") and table[-1].startswith("mean,1.0")
    for line, counts in zip(table[1:-1], measured.wall(0.5, 1).classes, strict=True):
        shown = [counts["name"], counts["hits"], counts["false_alarms"], counts["misses"], 0.5, 1]
        cells = line.split(",")
        assert [cells[0], *cells[8:]] == [str(each) for each in shown]
        assert int(cells[7]) == counts["hits"] + counts["misses"] == report["classes"][cells[0]]["truths"]
    # From another score on nothing counts, and what was measured at all scores stays.
    none = report_csv(report, measured, 0.95, 1).splitlines()
    assert none[-1].split(",")[:8] == table[-1].split(",")[:8] and none[-1].split(",")[8:10] == ["0", "0"]
    assert json.loads(report_json(evaluation))["figures"]["map"] == 1
    again = json.loads(detections_json(measured, 1.0))
    assert len(again) == sum(len(truth.boxes) for truth in measured.truths) and again[0][
        "score"
    ] == pytest.approx(0.9)


def test_interpolation_and_areas_are_taken(frozen, tmp_path):
    rows = results(frozen[4], Part.VALIDATION)[:-3]
    exact = measure_detections(
        frozen, tmp_path / "f.json", rows, interpolation="exact-area", areas=(100, 101)
    )
    report = opened(frozen, exact)[1].report
    assert report["interpolation"] == "exact-area" and report["map50_interval"] is None
    assert (
        report["area_bounds"] == [100, 101]
        and report["sizes"]["small"]["truths"] > report["sizes"]["large"]["truths"]
    )
    found = report["classes"]
    counted = [entry["hits"] / entry["truths"] for entry in found.values() if entry["truths"]]
    assert report["map50"] == pytest.approx(np.mean(counted))
    folder, sessions, project_id, snapshot_id, _ = frozen
    with sessions() as session:
        for order, message in (
            (Order(snapshot_id=snapshot_id, interpolation="7-point"), "unknown interpolation '7-point'"),
            (Order(snapshot_id=snapshot_id, areas=(96, 32)), "must rise from above 0, not 96 and 32"),
            (Order(snapshot_id=snapshot_id), "choose one model"),
        ):
            with pytest.raises(InputError, match=message):
                start_evaluation(session, folder, project_id, order)


@pytest.mark.slow
def test_classes_that_do_not_match_are_asked_for_and_mapped(frozen, tmp_path):
    folder, sessions = frozen[:2]

    def others(rows):
        return [row | {"category_id": row["category_id"] + 100} for row in rows]

    evaluation_id = measure_detections(
        frozen, tmp_path / "f.json", results(frozen[4], Part.VALIDATION, others)
    )
    with sessions.begin() as session:
        evaluation = get_evaluation(session, evaluation_id)
        assert (
            evaluation.job.state == JobState.FAILED and "say which class each means" in evaluation.job.message
        )
        strange = evaluation.settings["strange"]
        names = evaluation.settings["truth_classes"]
        mapping = {ident: names[int(ident) - 101] for ident in strange}
        job_id = measure_again(session, evaluation_id, mapping).job_id
    run_job(sessions, folder, job_id)
    assert opened(frozen, evaluation_id)[1].report["map"] == 1
    # Measured anew and stopped: the figures, and the mapping that they were made with, stay.
    with sessions.begin() as session:
        again = measure_again(session, evaluation_id, {}).job_id
    run_job(sessions, folder, again)
    with sessions() as session:
        evaluation = get_evaluation(session, evaluation_id)
        assert get_job(session, again).state == JobState.FAILED and evaluation.job_id == job_id
        assert evaluation.report["map"] == 1 and evaluation.settings["class_map"] == mapping


@pytest.mark.parametrize(
    "change, message",
    [
        (lambda rows: [rows[0] | {"image_id": 99}], "image_id that the truth does not have: 99"),
        (lambda rows: [rows[0] | {"score": 2}], "score 2, which does not lie between 0 and 1"),
        (lambda rows: [], "holds no detection"),
    ],
)
def test_faulty_detections_fail_with_their_reason(frozen, tmp_path, change, message):
    evaluation_id = measure_detections(
        frozen, tmp_path / "f.json", results(frozen[4], Part.VALIDATION, change)
    )
    with frozen[1]() as session:
        evaluation = get_evaluation(session, evaluation_id)
        assert evaluation.job.state == JobState.FAILED and message in evaluation.job.message
        assert evaluation.report == {}


@pytest.mark.slow
def test_a_truth_from_outside_with_its_pictures(frozen, tmp_path, frames):
    folder, sessions, project_id, *_ = frozen
    truth = write_coco_set(tmp_path / "outside", frames[:2])
    document = json.loads(truth.read_text())
    with zipfile.ZipFile(tmp_path / "set.zip", "w") as archive:
        for each in (tmp_path / "outside").iterdir():
            archive.write(each, each.name)
    rows = [
        {"image_id": each["image_id"], "category_id": each["category_id"], "bbox": each["bbox"], "score": 0.8}
        for each in document["annotations"]
    ]
    for name in ("set.zip", "outside/truth.json"):
        # What is sent is moved to where it belongs.
        (tmp_path / "found.json").write_text(json.dumps(rows))
        with sessions.begin() as session:
            sent = {
                "truth": (tmp_path / name, name.split("/")[-1]),
                "detections": (tmp_path / "found.json", "found.json"),
            }
            evaluation = start_evaluation(session, folder, project_id, Order(), sent)
            evaluation_id, job_id = evaluation.id, evaluation.job_id
        run_job(sessions, folder, job_id)
        measured, evaluation = opened(frozen, evaluation_id)
        assert (
            evaluation.report["map"] == 1 and evaluation.part is None and evaluation.report["pictures"] == 2
        )
        if name == "set.zip":
            picture = measured.picture(1)
            path = folder.picture(project_id, picture.content_hash, picture.suffix)
            assert read_picture(path, "sent").shape == frames[0].pixels.shape
        else:
            with pytest.raises(NotFound, match="was not sent along"):
                measured.picture(1)
        with sessions() as session, pytest.raises(InputError, match="came from outside"):
            list_doubts(session, measured, 1)


def test_a_model_needs_the_pictures_of_a_truth_from_outside(trained, tmp_path, frames):
    folder, sessions, run_id = trained
    truth = write_coco_set(tmp_path / "outside", frames[:1])
    with sessions.begin() as session:
        sent = {"truth": (truth, "truth.json")}
        evaluation = start_evaluation(session, folder, 1, Order(run_id=run_id), sent)
        evaluation_id, job_id = evaluation.id, evaluation.job_id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        assert "has no pictures beside it" in get_evaluation(session, evaluation_id).job.message


@pytest.mark.slow
def test_looks_at_the_test_part_are_counted(frozen, tmp_path):
    folder, sessions, project_id, *_ = frozen
    with sessions.begin() as session:
        for picture in session.query(Picture).filter(Picture.part == Part.VALIDATION):
            picture.part = Part.TEST
        snapshot = freeze(session, folder, project_id)
        held = (*frozen[:3], snapshot.id, read_snapshot(folder, snapshot))
    evaluation_id = measure_detections(held, tmp_path / "f.json", results(held[4], Part.TEST), Part.TEST)
    with sessions.begin() as session:
        assert looks_at_test(session, project_id) == 0
        for _ in range(3):
            count_look(session, evaluation_id)
    measured, _ = opened(held, evaluation_id)
    with sessions() as session:
        assert looks_at_test(session, project_id) == 3
        bin_evaluation(session, evaluation_id, True)
        assert evaluation_id not in [each.id for each in list_evaluations(session, project_id)]
        assert looks_at_test(session, project_id) == 3
        bin_evaluation(session, evaluation_id, False)
        assert evaluation_id in [each.id for each in list_evaluations(session, project_id)]
        with pytest.raises(InputError, match="labels of the test part are not mended"):
            list_doubts(session, measured, 1)


@pytest.fixture
def doubted(frozen, tmp_path):
    """Detections that disagree with the labels of training pictures in four ways."""

    def spoil(rows):
        first, second, third, *rest = rows
        second = second | {"category_id": second["category_id"] % 5 + 1}
        x, y, w, h = third["bbox"]
        third = third | {"bbox": [x + 0.3 * w, y + 0.3 * h, w, h]}
        fresh = first | {"bbox": [5, 5, 40, 40]}
        return [fresh, second, third, *rest]

    evaluation_id = measure_detections(
        frozen, tmp_path / "f.json", results(frozen[4], Part.TRAINING, spoil), Part.TRAINING
    )
    return opened(frozen, evaluation_id)[0]


def test_doubted_labels_are_mended_and_taken_back(frozen, doubted):
    _, sessions, project_id, *_ = frozen
    with sessions() as session:
        doubts = list_doubts(session, doubted, 1)
    assert {each.kind for each in doubts} == {"unlabelled", "other class", "badly placed", "background"}
    assert all(each.state == "open" for each in doubts) and len(doubts) == 4

    def count(session):
        return {each.kind: each.state for each in list_doubts(session, doubted, 1)}

    for doubt in doubts:
        with sessions.begin() as session:
            before = session.get(Picture, doubt.picture_id).box_count
            change = accept_prediction(session, doubted, 1, doubt.number)
            change_id = change.id
            session.flush()
            after = session.get(Picture, doubt.picture_id).box_count
            assert after - before == {"unlabelled": 1, "background": -1}.get(doubt.kind, 0)
            assert count(session)[doubt.kind] == "mended"
        assert undo_change(sessions, project_id, change_id).pictures == 1
        with sessions.begin() as session:
            assert count(session)[doubt.kind] == "open"
    with sessions.begin() as session:
        call_it_fine(session, doubted, 1, doubts[0].number, True)
        assert count(session)[doubts[0].kind] == "fine"
        call_it_fine(session, doubted, 1, doubts[0].number, False)
        assert count(session)[doubts[0].kind] == "open"
        with pytest.raises(NotFound, match="no such doubt"):
            accept_prediction(session, doubted, 1, 99)


def test_a_label_that_changed_since_is_not_touched(frozen, doubted):
    sessions = frozen[1]
    with sessions.begin() as session:
        doubt = next(each for each in list_doubts(session, doubted, 1) if each.kind == "other class")
        picture = session.get(Picture, doubt.picture_id)
        for box in picture.boxes:
            box.x1 += 0.4 * (box.x2 - box.x1)
        session.flush()
        with pytest.raises(InputError, match="was changed since"):
            accept_prediction(session, doubted, 1, doubt.number)


def test_what_lies_behind_the_figures_adds_up(frozen, doubted):
    told = mistakes_of(doubted, 0.5, 1)
    kinds = {each.name: each.count for each in told}
    assert kinds["wrong class"] == kinds["background"] == kinds["no candidate"] == 1
    assert kinds["too large"] + kinds["too small"] + kinds["shifted"] == 1
    for each in told:
        assert len(mistaken_boxes(doubted, 0.5, 1, each.number)) == each.count
    made = confusion_of(doubted, 0.5, 1, 0.5)
    for row, column in np.argwhere(made.counts):
        assert len(confused_boxes(doubted, 0.5, 1, 0.5, int(row), int(column))) == made.counts[row, column]
    found, before = calibration_of(doubted, 1)
    assert before is None, "these scores were not calibrated"
    assert found.counts.sum() == sum(len(each.boxes) for each in doubted.found(0.5, 1))
    for curve in curves_of(doubted, 0.5, 1, (0.5, 0.9)):
        recalls = [recall for recall, _, _ in curve.curve]
        assert recalls == sorted(recalls) and (not recalls or curve.point[0] == recalls[-1])


@pytest.mark.slow
def test_two_side_by_side_in_words(frozen, tmp_path):
    perfect = measure_detections(frozen, tmp_path / "all.json", results(frozen[4], Part.VALIDATION))
    half = measure_detections(
        frozen, tmp_path / "half.json", results(frozen[4], Part.VALIDATION, lambda rows: rows[::2])
    )
    first, second = opened(frozen, half)[0], opened(frozen, perfect)[0]
    made = put_side_by_side(first, second, 0.5, 1)
    assert f"all.json measures +{made.figures[0].second - made.figures[0].first:.3f} mAP" in made.words
    assert "against half.json, but whether that is chance cannot be told from so few pictures" in made.words
    assert "half.json measures −" in put_side_by_side(second, first, 0.5, 1).words
    assert made.only_second == 2 and made.both_right == made.only_first == made.neither == 0
    assert made.figures[0].second == 1 and made.figures[0].low is None
    assert {each.verdict for each in made.figures} <= {"too few to tell", ""}
    assert made.figures[0].verdict == "too few to tell"
    assert put_side_by_side(second, second, 0.5, 1).words == "all.json and all.json find the same."
    training = measure_detections(
        frozen, tmp_path / "t.json", results(frozen[4], Part.TRAINING), Part.TRAINING
    )
    with pytest.raises(InputError, match="not measured on the same pictures"):
        put_side_by_side(first, opened(frozen, training)[0], 0.5, 1)


def test_a_bundle_with_other_classes_asks_which_are_meant(trained, tmp_path):
    folder, sessions, run_id = trained
    with sessions.begin() as session:
        run = get_run(session, run_id)
        bundle = model_path(folder, run)
        for each in session.query(ObjectClass):
            each.name += "s"
        session.flush()
        snapshot_id = freeze(session, folder, 1).id
        evaluation = start_evaluation(
            session, folder, 1, Order(snapshot_id=snapshot_id), {"model": (bundle, "other.zip")}
        )
        evaluation_id, job_id = evaluation.id, evaluation.job_id
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        evaluation = get_evaluation(session, evaluation_id)
        assert (
            evaluation.job.state == JobState.FAILED and "Say which class each means" in evaluation.job.message
        )
        assert (
            evaluation.settings["strange"][0] == "roll" and evaluation.settings["truth_classes"][0] == "rolls"
        )
        job_id = measure_again(session, evaluation_id, {"roll": "rolls", "ring": "rings"}).job_id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        evaluation = get_evaluation(session, evaluation_id)
        assert evaluation.job.state == JobState.DONE
        assert "does not know croissants, loafs, pretzels" in evaluation.report["problems"][0]


@pytest.mark.slow
def test_detections_count_at_every_score(frozen, tmp_path):
    """A perfect detector that is shy of itself is perfect."""
    shy = results(frozen[4], Part.VALIDATION, lambda rows: [each | {"score": 0.004} for each in rows])
    measured, evaluation = opened(frozen, measure_detections(frozen, tmp_path / "shy.json", shy))
    assert evaluation.report["map"] == 1 and evaluation.report["lowest_score"] == 0
    assert sum(row["hits"] for row in measured.wall(0.0, 1).pictures) == len(shy)


def test_two_side_by_side_say_how_sure_they_are():
    def told(**values):
        plain = {"amount": 0.05, "low": 0.01, "high": 0.09, "chance": 0.02, "ahead": 0.9, "same": False}
        return in_words("Stint", "Dunlin", Difference(**plain | values))

    assert (
        "more than chance" in told() and "2 of 100 cases" in told() and "between +0.010 and +0.090" in told()
    )
    assert "less than 1 case of 100" in told(chance=0.001)
    assert "can be chance" in told(low=-0.01) and "Dunlin would come out ahead about 90 times" in told(
        low=-0.01
    )
    worse = told(amount=-0.05, low=-0.09, high=0.02, ahead=0.02)
    assert "Stint would come out ahead about 95 times in 100" in worse and "−0.050" in worse
    assert told(same=True, amount=0.0) == "Stint and Dunlin find the same."
    nan = float("nan")
    assert "no truth" in told(amount=nan) and "cannot be told from so few" in told(low=nan, high=nan)


def test_ignored_boxes_are_not_measured(data, session, labelled):
    from avocet.store.tables import Part
    from avocet.work.snapshots.frozen import labelled_pictures

    picture = session.get(Picture, pictures_of(session, labelled, Filter(part=Part.VALIDATION))[0].id)
    box = labels_of(picture)["boxes"][0]
    boxes = [
        NewBox(box["class_id"], tuple(box["corners"]), attributes={"ignore": True}, track=7),
        NewBox(box["class_id"], tuple(box["corners"])),
    ]
    save_labels(session, picture, picture.revision, boxes, PictureState.DONE)
    frozen = read_snapshot(data[0], freeze(session, data[0], labelled))
    kept = next(each for each in frozen.pictures if each.id == picture.id)
    assert kept.attributes == {0: {"ignore": True}} and kept.tracks == {0: 7}
    ready = labelled_pictures(data[0], labelled, frozen, Part.VALIDATION)
    assert next(each for each in ready if each.name == picture.name).ignored.tolist() == [True, False]


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
        assert_classes_add_up(measured, score)
        for index, row in enumerate(measured.wall(score, 0.5).pictures):
            boxes = measured.compare(index, score, 0.5)
            assert row["hits"] + row["misses"] == len(measured.pictures[index].boxes) == len(boxes["truths"])
            assert row["hits"] + row["false_alarms"] == len(boxes["predictions"])
            for number, truth in enumerate(boxes["truths"]):
                if truth["partner"] is not None:
                    assert boxes["predictions"][truth["partner"]]["partner"] == number
    assert all(row["hits"] == 0 for row in measured.wall(1.0, 0.5).pictures)


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
    truths = [PictureTruth(picture.boxes, picture.classes, picture.ignored) for picture in pictures]
    good, bad = measure(frozen.classes, truths, perfect), measure(frozen.classes, truths, nothing)
    assert good["map"] == good["map75"] == 1.0 and bad["map50"] == 0.0
    assert good["map_interval"] is None, "of two pictures nothing can be told"
    many = measure(frozen.classes, truths * 5, perfect * 5), measure(frozen.classes, truths * 5, nothing * 5)
    assert many[0]["map_interval"][1] == 1.0 > many[0]["map_interval"][0] > 0.8
    assert many[1]["map50_interval"][0] == 0.0 < many[1]["map50_interval"][1] < 0.3
    ranges = [each["interval"] for each in many[0]["sizes"].values() if each["truths"]]
    assert ranges and all(low < high == 1.0 for low, high in ranges)
    assert (good["flawless"], bad["flawless"]) == (len(pictures), 0)
    counted = sum(len(picture.boxes) for picture in pictures)
    assert sum(each["truths"] for each in good["sizes"].values()) == counted
    assert sum(each["hits"] for each in good["classes"].values()) == counted
    assert sum(each["misses"] for each in bad["classes"].values()) == counted
    assert good["recall"]["100"] == 1.0 and good["recall"]["1"] <= 1.0
