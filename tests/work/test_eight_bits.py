"""8 bits tried on a run's validation pictures: used, not used, and 32 bits again."""

import numpy as np
import pytest

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.errors import InputError
from avocet.core.score.measurement import match_pictures
from avocet.core.score.precision import COCO_THRESHOLDS
from avocet.detector.model.predictor import Predictor
from avocet.store.tables import Part, Picture
from avocet.work.job_kinds import TRY_EIGHT_BITS
from avocet.work.models import eight_bits
from avocet.work.models.bundles import bundles_of, take_back_eight_bits
from avocet.work.models.eight_bits import do_try_eight_bits
from avocet.work.models.opening import open_bundles
from avocet.work.progress import Stopped
from avocet.work.train.runs import extend_run, get_run, model_path
from tests.conftest import task_of
from tests.ready import add_to_weights, add_trained_run, trained_bundle


@pytest.fixture
def ready(data, labelled):
    with data[1].begin() as session:
        return add_trained_run(session, data[0], labelled).id


@pytest.fixture
def twice_as_quick(monkeypatch):
    """How quick it is on the machine of the tests, beside others, is nothing to test by."""
    measured = eight_bits._side_by_side

    def made_up(*given):
        milliseconds, ratios = measured(*given)
        assert len(ratios) == eight_bits.PAIRS and min(*milliseconds, *ratios) > 0
        return (8.0, 4.0), [2.0] * len(ratios)

    monkeypatch.setattr(eight_bits, "_side_by_side", made_up)


def bundle_of(data, run_id):
    with data[1]() as session:
        return model_path(data[0], get_run(session, run_id))


def engine_used(data, run_id):
    """As a detection run, an address or a measurement opens it."""
    with data[1]() as session:
        opened = open_bundles(bundles_of(session, data[0], get_run(session, run_id), None))
    return opened.about["engine"]


@pytest.mark.slow
def test_used_where_it_serves_and_32_bits_again(data, ready, twice_as_quick):
    made = do_try_eight_bits(task_of(data, TRY_EIGHT_BITS, run_id=ready))
    assert made.used and made.said.startswith("8 bits are used: 2.0 times as quick"), made.said
    assert made.pictures == 2 and made.size[1] < 0.35 * made.size[0]
    assert made.map[0] > 0.8 and abs(made.map[0] - made.map[1]) < 0.05
    assert "at 0.5" in made.said and made.map50[0] >= made.map[0]
    assert engine_used(data, ready).endswith("8 bit")
    with data[1]() as session:
        assert get_run(session, ready).facts["eight_bits"]["used"] is True
    take_back_eight_bits(data[1], data[0], ready)
    with data[1]() as session:
        back = get_run(session, ready).facts["eight_bits"]
    assert back["used"] is False and back["map"] == list(made.map)
    assert not engine_used(data, ready).endswith("8 bit")
    assert bundle_of(data, ready).read_bytes() == trained_bundle()


@pytest.mark.long
@pytest.mark.slow
def test_not_used_where_it_loses_or_is_no_quicker(data, ready, twice_as_quick, monkeypatch):
    monkeypatch.setattr(eight_bits, "PRECISE", -1.0)
    made = do_try_eight_bits(task_of(data, TRY_EIGHT_BITS, run_id=ready))
    assert not made.used and "more than -1.0" in made.said
    monkeypatch.setattr(eight_bits, "PRECISE", 0.1)
    # Quicker at times, but not three times out of four.
    uneven = [0.9] * 11 + [3.0] * 29
    monkeypatch.setattr(eight_bits, "_side_by_side", lambda *_: ((8.0, 4.0), uneven))
    made = do_try_eight_bits(task_of(data, TRY_EIGHT_BITS, run_id=ready))
    assert not made.used and "not surely quicker" in made.said and made.times == 3.0
    assert bundle_of(data, ready).read_bytes() == trained_bundle()


@pytest.mark.long
@pytest.mark.slow
def test_what_is_measured_is_what_is_used(data, ready, twice_as_quick):
    """The figures told are those of a model opened anew, not of one that only served to measure."""
    from avocet.work.judge.report import find_candidates, measure
    from avocet.work.progress import SILENT
    from avocet.work.snapshots.frozen import labelled_pictures
    from avocet.work.snapshots.snapshots import read_snapshot

    made = do_try_eight_bits(task_of(data, TRY_EIGHT_BITS, run_id=ready))
    with data[1]() as session:
        run = get_run(session, ready)
        frozen, project_id = read_snapshot(data[0], run.snapshot), run.project_id
    pictures = labelled_pictures(data[0], project_id, frozen, Part.VALIDATION)
    predictor = Predictor.from_bundle(bundle_of(data, ready))
    found = find_candidates(predictor, pictures, SILENT)
    assert measure(predictor.classes, [each.truth for each in pictures], found)["map"] == pytest.approx(
        made.map[1], abs=1e-6
    )


@pytest.mark.parametrize("better", [0, 1])
def test_a_change_is_told_with_its_range_and_whether_it_is_chance(better):
    """One detector finds every object of 30 pictures, the other misses one in six: no chance; in three pictures it may be."""
    truths = [PictureTruth(np.array([[10.0, 10, 30, 30], [50, 50, 80, 80]]), np.array([0, 0]))] * 30

    def found(missing):
        return [
            PictureDetections(
                each.boxes[: 1 if number in missing else 2],
                np.array([0.9, 0.8])[: 1 if number in missing else 2],
                each.classes[: 1 if number in missing else 2],
            )
            for number, each in enumerate(truths)
        ]

    def compared(pictures, missing):
        sides = [
            match_pictures(truths[:pictures], found(some)[:pictures], [0], COCO_THRESHOLDS)
            for some in ((), missing)
        ]
        return eight_bits._compared(*(sides if better == 0 else sides[::-1]))[1]

    many = compared(30, range(0, 30, 3))
    assert many.more_than_chance and (many.change[1] < 0 if better == 0 else many.change[0] > 0)
    assert many.change[0] <= many.figures[1] - many.figures[0] <= many.change[1]
    few = compared(6, (0,))
    assert not few.more_than_chance and few.change[0] <= 0 <= few.change[1]


@pytest.mark.slow
def test_what_cannot_be_tried(data, labelled, ready, monkeypatch):
    folder, sessions = data
    monkeypatch.setattr(eight_bits, "engine_taken", lambda: ("torch", "there is a GPU"))
    with pytest.raises(InputError, match="8 bits are for processors; here torch computes, as there is a GPU"):
        do_try_eight_bits(task_of(data, TRY_EIGHT_BITS, run_id=ready))
    monkeypatch.undo()
    with sessions.begin() as session:
        for picture in session.query(Picture):
            picture.part = Part.TRAINING
        alone = add_trained_run(session, folder, labelled, "No validation").id
    with pytest.raises(InputError, match="no validation pictures"):
        do_try_eight_bits(task_of(data, TRY_EIGHT_BITS, run_id=alone))

    class Impatient:
        asked = 0

        def progress(self, done, total, message=""):
            assert 0 < done <= total == 4 + 2 * 2

        def should_stop(self):
            self.asked += 1
            return self.asked > 5

    with pytest.raises(Stopped):
        do_try_eight_bits(task_of(data, TRY_EIGHT_BITS, reporter=Impatient(), run_id=ready))
    assert bundle_of(data, ready).read_bytes() == trained_bundle()
    with sessions() as session:
        assert "eight_bits" not in get_run(session, ready).facts


@pytest.mark.slow
def test_ranges_do_not_come_upon_weights_that_they_are_not_of(data, ready, twice_as_quick, monkeypatch):
    """While it is tried, the run is extended: the ranges are of weights that are gone."""
    path, measured = bundle_of(data, ready), eight_bits._side_by_side

    def extended_meanwhile(*given):
        add_to_weights(path)
        return measured(*given)

    monkeypatch.setattr(eight_bits, "_side_by_side", extended_meanwhile)
    with pytest.raises(InputError, match="trained on meanwhile"):
        do_try_eight_bits(task_of(data, TRY_EIGHT_BITS, run_id=ready))
    assert not engine_used(data, ready).endswith("8 bit")
    with data[1]() as session:
        assert "eight_bits" not in get_run(session, ready).facts


def test_pairs_are_timed_one_after_the_other(monkeypatch):
    """Whatever slows the machine slows both of a pair: a clock that doubles its pace half-way changes no ratio."""

    class Engine:
        def __init__(self, cost):
            self.cost = cost

        def input_of(self, pixels):
            return pixels

        def raw(self, inputs):
            clock.now += self.cost * clock.pace
            clock.asked += 1
            clock.pace = 2.0 if clock.asked >= 44 else 1.0

    class clock:
        now, asked, pace = 0.0, 0, 1.0

    class Still:
        def read(self):
            return np.zeros((4, 4, 3), np.uint8)

    monkeypatch.setattr(eight_bits.time, "perf_counter", lambda: clock.now)
    milliseconds, ratios = eight_bits._side_by_side(Engine(0.006), Engine(0.004), [Still()] * 3)
    assert ratios == pytest.approx([1.5] * eight_bits.PAIRS)
    assert milliseconds == pytest.approx((9.0, 6.0))


def test_weights_that_come_are_not_in_8_bits(trained, twice_as_quick):
    from avocet.jobs.worker import run_job

    folder, sessions, run_id = trained
    data = (folder, sessions)
    made = do_try_eight_bits(task_of(data, TRY_EIGHT_BITS, run_id=run_id))
    assert made.pictures == 2
    with sessions.begin() as session:
        run = extend_run(session, folder, run_id, 1)
        job_id = run.job_id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        assert "eight_bits" not in get_run(session, run_id).facts
