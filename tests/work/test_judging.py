"""Judging: truths and detections from outside, labels put in doubt, comparisons, ensembles, saved scores."""

import json
import zipfile

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.detector.card import read_parts
from avocet.detector.predictor import Predictor
from avocet.jobs.worker import run_job
from avocet.media.pictures import read_picture
from avocet.store.tables import JobState, ObjectClass, Part, Picture
from avocet.work.changes import undo_change
from avocet.work.combining import combine
from avocet.work.detections import get_detection, start_detection
from avocet.work.evaluation_files import detections_json, report_csv, report_json
from avocet.work.evaluations import (
    Order,
    bin_evaluation,
    count_look,
    get_evaluation,
    list_evaluations,
    looks_at_test,
    measure_again,
    start_evaluation,
)
from avocet.work.judging import (
    calibration_of,
    confused_boxes,
    confusion_of,
    curves_of,
    mistaken_boxes,
    mistakes_of,
)
from avocet.work.label_doubts import accept_prediction, call_it_fine, list_doubts
from avocet.work.measured import Measured
from avocet.work.models import bundles_of, choose_minimum_scores, get_ensemble, make_ensemble
from avocet.work.opening import open_model
from avocet.work.previews import find_boxes, take_apart, take_apart_pixels
from avocet.work.problems import NotFound
from avocet.work.progress import Silent
from avocet.work.runs import extend_run, get_run, model_path, start_run
from avocet.work.side_by_side import put_side_by_side
from avocet.work.snapshots import freeze, read_snapshot
from avocet.work.taking_apart import TakenApart, explanation, shown_candidates
from tests.conftest import write_coco_set
from tests.work.conftest import QUICK


@pytest.fixture
def frozen(data, labelled):
    """The labelled project with a snapshot: folder, sessions, project, snapshot's number, what it holds."""
    folder, sessions = data
    with sessions.begin() as session:
        snapshot = freeze(session, folder, labelled)
        return folder, sessions, labelled, snapshot.id, read_snapshot(folder, snapshot)


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


def opened(frozen, evaluation_id):
    folder, sessions = frozen[:2]
    with sessions() as session:
        evaluation = get_evaluation(session, evaluation_id)
        assert evaluation.job.state == JobState.DONE, evaluation.job.message
        return Measured.opened(folder, evaluation), evaluation


def test_detections_of_another_program_are_measured(frozen, tmp_path):
    perfect = measure_detections(frozen, tmp_path / "found.json", results(frozen[4], Part.VALIDATION))
    measured, evaluation = opened(frozen, perfect)
    report = evaluation.report
    assert report["map"] == report["map50"] == 1 and report["flawless"] == report["pictures"] == 2
    assert report["overlap_limit"] == 1 and evaluation.name == "found.json"
    assert all(entry["count"] == 0 for entry in report["mistakes"].values())
    assert all(
        row["misses"] == row["false_alarms"] == 0 and row["lowest_iou"] > 0.99
        for row in measured.wall(0.5, 1)
    )
    table = report_csv(report).splitlines()
    assert table[0].startswith("class,AP at IoU 0.5,from,to") and table[-1].startswith("mean,1.0")
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
    (tmp_path / "found.json").write_text(json.dumps(rows))
    for name in ("set.zip", "outside/truth.json"):
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
    assert {each.kind for each in doubts} == {"unlabelled", "other class", "badly placed", "nothing there"}
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
            assert after - before == {"unlabelled": 1, "nothing there": -1}.get(doubt.kind, 0)
            assert count(session)[doubt.kind] == "mended"
        with sessions.begin() as session:
            assert undo_change(session, project_id, change_id).pictures == 1
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
    kinds = {each.name: each.count for each in mistakes_of(doubted, 0.5, 1)}
    assert kinds["wrong class"] == kinds["badly placed"] == kinds["nothing there"] == kinds["not found"] == 1
    for number, name in enumerate(kinds):
        assert len(mistaken_boxes(doubted, 0.5, 1, number)) == kinds[name]
    made = confusion_of(doubted, 0.5, 1, 0.5)
    for row, column in np.argwhere(made.counts):
        assert len(confused_boxes(doubted, 0.5, 1, 0.5, int(row), int(column))) == made.counts[row, column]
    found = calibration_of(doubted, 1)
    assert found.counts.sum() == sum(len(each.boxes) for each in doubted.found(0.5, 1))
    for curve in curves_of(doubted, 0.5, 1, (0.5, 0.9)):
        recalls = [recall for recall, _, _ in curve.curve]
        assert recalls == sorted(recalls) and (not recalls or curve.point[0] == recalls[-1])


def test_two_side_by_side_in_words(frozen, tmp_path):
    perfect = measure_detections(frozen, tmp_path / "all.json", results(frozen[4], Part.VALIDATION))
    half = measure_detections(
        frozen, tmp_path / "half.json", results(frozen[4], Part.VALIDATION, lambda rows: rows[::2])
    )
    first, second = opened(frozen, half)[0], opened(frozen, perfect)[0]
    made = put_side_by_side(first, second, 0.5, 1)
    assert made.words.startswith("all.json is better than half.json by") and "more than chance" in made.words
    assert made.only_second == 2 and made.both_right == made.only_first == made.neither == 0
    assert made.figures[0].second == 1 and made.figures[0].low > 0
    assert put_side_by_side(second, second, 0.5, 1).words == "all.json and all.json find the same."
    training = measure_detections(
        frozen, tmp_path / "t.json", results(frozen[4], Part.TRAINING), Part.TRAINING
    )
    with pytest.raises(InputError, match="not measured on the same pictures"):
        put_side_by_side(first, opened(frozen, training)[0], 0.5, 1)


def test_minimum_scores_are_kept_with_the_model(trained, frames, tmp_path):
    folder, sessions, run_id = trained
    with sessions.begin() as session:
        path = model_path(folder, get_run(session, run_id))
        weights = read_parts(path)[1]
        choose_minimum_scores(session, folder, run_id, {"roll": 0.75, "ring": 0.0})
        with pytest.raises(InputError, match="does not know the class 'bun'"):
            choose_minimum_scores(session, folder, run_id, {"bun": 0.5})
        with pytest.raises(InputError, match="must lie between 0 and 1, not 3"):
            choose_minimum_scores(session, folder, run_id, {"roll": 3})
    card, same = read_parts(path)
    assert card.minimum_scores == {"roll": 0.75, "ring": 0.0} and same == weights
    with sessions.begin() as session:
        detection = start_detection(
            session, folder, run_id, {"pictures": True}, 0.99, 0.5, chosen_scores=True
        )
        detection_id, job_id = detection.id, detection.job_id
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        counts = get_detection(session, detection_id).summary["by_class"]
        # Only rings may score as low as an untrained network does.
        assert counts["ring"] > 0 and sum(counts.values()) == counts["ring"]
        assert extend_run(session, run_id, 1).minimum_scores == {}


def test_an_ensemble_is_measured_and_used_like_a_model(trained):
    folder, sessions, run_id = trained
    with sessions.begin() as session:
        second = start_run(session, folder, 1, QUICK | {"seed": 5})
        second_id, job_id = second.id, second.job_id
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        made = make_ensemble(session, folder, 1, "", [(run_id, 1.0), (second_id, 2.0)])
        plain = make_ensemble(
            session, folder, 1, "plain", [(run_id, 1.0), (second_id, 1.0)], method="suppression"
        )
        opened = [open_model(bundles_of(session, folder, None, each)) for each in (made, plain)]
        assert [each.about["method"] for each in opened] == ["fusion", "suppression"]
        ensemble_id = made.id
        assert made.name == "Stint 1 + Stint 2"
        for members, limit, message in (
            ([(run_id, 1.0)], 0.5, "2 to 8 runs, not 1"),
            ([(run_id, 1.0), (run_id, 1.0)], 0.5, "stands twice"),
            ([(run_id, 1.0), (second_id, -1.0)], 0.5, "must lie above 0"),
            ([(run_id, 1.0), (second_id, 1.0)], 1.5, "overlap limit must lie between 0 and 1"),
        ):
            with pytest.raises(InputError, match=message):
                make_ensemble(session, folder, 1, "x", members, limit)
        snapshot_id = get_run(session, run_id).snapshot_id
        evaluation = start_evaluation(
            session, folder, 1, Order(ensemble_id=ensemble_id, snapshot_id=snapshot_id)
        )
        detection = start_detection(
            session, folder, None, {"pictures": True}, 0.01, 0.5, ensemble_id=ensemble_id
        )
        jobs = (evaluation.job_id, detection.job_id)
        ids = (evaluation.id, detection.id)
    for job_id in jobs:
        run_job(sessions, folder, job_id)
    with sessions() as session:
        evaluation, detection = get_evaluation(session, ids[0]), get_detection(session, ids[1])
        assert evaluation.job.state == detection.job.state == JobState.DONE, evaluation.job.message
        assert evaluation.report["pictures"] == 2 and evaluation.report["milliseconds"] > 0
        assert detection.summary["pictures"] == 6
        assert get_ensemble(session, ensemble_id).members[1] == {"run_id": second_id, "weight": 2.0}


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


def test_a_picture_taken_apart_agrees_with_detection(trained):
    folder, sessions, run_id = trained
    with sessions() as session:
        picture = session.query(Picture).first()
        given = {"run_id": run_id, "picture_id": picture.id, "checkpoint": "best", "job_id": 77}
        path = model_path(folder, get_run(session, run_id))
        file = folder.picture(1, picture.content_hash, picture.suffix)
    take_apart(sessions, folder, given, Silent())
    apart = TakenApart.kept(folder, 77)
    predictor = Predictor.from_bundle(path)
    pixels = read_picture(file, "picture")
    expected = predictor.candidates([pixels], 0.01)[0].after_suppression(0.01, 0.5)
    fates = apart.fates(0.01, 0.5, "by class", 0.5, 1000)
    np.testing.assert_allclose(fates.placed.boxes[fates.kept()], expected.boxes, atol=1e-4)
    assert len(apart.facts.truths) == picture.box_count
    levels = apart.levels()
    assert [each.stride for each in levels] == [8, 16, 32]
    assert sum(3 * each.rows * each.columns for each in levels) == len(apart.decoded.boxes)
    for number in (0, 50, len(apart.decoded.boxes) - 1):
        place = [int(value) for value in apart.decoded.origin[number]]
        assert apart.number_of(*place) == number
        assert apart.cell(*place).score == pytest.approx(fates.placed.scores[number])
    shown = shown_candidates(apart, fates)
    assert [each["fate"] for each in shown[: len(expected.boxes)]] == ["kept"] * len(expected.boxes)
    document = explanation(take_apart_pixels(predictor, pixels, "m", "p"), fates, 0.01, 0.5, "by class")
    assert document["funnel"]["kept"] == len(expected.boxes)
    assert all(each["arithmetic"] for each in document["candidates"])
    with pytest.raises(NotFound, match="no anchor 9"):
        apart.cell(0, 0, 0, 9)
    with pytest.raises(NotFound, match="nothing was taken apart"):
        TakenApart.kept(folder, 78)


def test_models_are_combined_on_one_picture(trained):
    folder, sessions, run_id = trained
    with sessions() as session:
        picture_id = session.query(Picture).first().id
    outcome = find_boxes(sessions, folder, {"picture_id": picture_id, "run_ids": [run_id, run_id]}, Silent())
    assert [each["name"] for each in outcome["models"]] == ["Stint 1"] * 2 and outcome["width"] == 960
    for model in outcome["models"]:
        # An untrained network is sure of nothing; two boxes that it might have found.
        model |= {
            "boxes": [[0, 0, 10, 10], [50, 0, 60, 10]],
            "scores": [0.9, 0.4],
            "classes": ["roll", "ring"],
        }
    made = combine(outcome, [1, 1], 0.55, 0.05)
    # The same model twice: each box with its twin.
    assert len(made.fused) == len(made.suppressed) > 0 and all(box.members % 2 == 0 for box in made.fused)
    with pytest.raises(InputError, match="2 models need 2 weights"):
        combine(outcome, [1], 0.55, 0.05)
    with pytest.raises(NotFound, match="no models were asked"):
        combine({}, [1], 0.55, 0.05)
