"""A picture taken apart, and models combined on it."""

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.detector.model.predictor import Predictor
from avocet.media.pictures import read_picture
from avocet.store.tables import Picture
from avocet.work.anatomy.find_boxes import find_boxes
from avocet.work.anatomy.fusion import combine
from avocet.work.anatomy.raw import TakenApart, explanation, shown_candidates
from avocet.work.anatomy.take_apart import take_apart, take_apart_pixels
from avocet.work.job_kinds import FIND_BOXES, TAKE_APART
from avocet.work.problems import NotFound
from avocet.work.train.runs import get_run, model_path
from tests.conftest import task_of


def test_a_picture_taken_apart_agrees_with_detection(trained):
    folder, sessions, run_id = trained
    with sessions() as session:
        picture = session.query(Picture).first()
        path = model_path(folder, get_run(session, run_id))
        file = folder.picture(1, picture.content_hash, picture.suffix)
    take_apart(task_of(trained, TAKE_APART, job_id=77, run_id=run_id, picture_id=picture.id))
    apart = TakenApart.kept(folder, 77)
    predictor = Predictor.from_bundle(path)
    pixels = read_picture(file, "picture")
    expected = predictor.candidates([pixels], 0.01)[0].after_suppression(0.01, 0.5)
    fates = apart.fates(0.01, 0.5, "by class", 0.5, 1000)
    np.testing.assert_allclose(fates.placed.boxes[fates.kept()], expected.boxes, atol=1e-4)
    assert len(apart.facts.truths) == picture.box_count
    levels = apart.levels()
    assert [each.stride for each in levels] == [8, 16, 32]
    assert sum(len(each.anchors) * each.rows * each.columns for each in levels) == len(apart.decoded.boxes)
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
    _, sessions, run_id = trained
    with sessions() as session:
        picture_id = session.query(Picture).first().id
    found = find_boxes(task_of(trained, FIND_BOXES, picture_id=picture_id, run_ids=[run_id, run_id]))
    assert [each.name for each in found.models] == ["Stint 1"] * 2 and found.width == 960
    # An untrained network is sure of nothing; two boxes that it might have found.
    sure = {
        "boxes": [(0, 0, 10, 10), (50, 0, 60, 10)],
        "scores": [0.9, 0.4],
        "classes": ["roll", "ring"],
    }
    found = found.model_copy(update={"models": [each.model_copy(update=sure) for each in found.models]})
    made = combine(found, [1, 1], 0.55, 0.05)
    # The same model twice: each box with its twin.
    assert len(made.fused) == len(made.suppressed) > 0 and all(box.members % 2 == 0 for box in made.fused)
    with pytest.raises(InputError, match="2 models need 2 weights"):
        combine(found, [1], 0.55, 0.05)
