"""Training on tiny pictures: it learns, it is reproducible, it resumes bit for bit."""

from types import SimpleNamespace

import numpy as np
import pytest
import safetensors.torch

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.errors import InputError
from avocet.core.raw.candidates import Candidates
from avocet.detector.model.predictor import Predictor
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.batches import TrainingPictures
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings, settings_from
from avocet.detector.training.trainer import Training
from avocet.detector.training.validating import _figures
from avocet.work.judge.report import measure

SETTINGS = Settings(side=96, epochs=4, batch=2, seed=3, augmentation=Augmentation(flips="sideways"))


def picture(seed, width=96, height=64):
    """Grey noise with one or two bright squares."""
    random = np.random.default_rng(seed)
    pixels = random.integers(40, 70, (height, width, 3), dtype=np.uint8)
    boxes = []
    for _ in range(int(random.integers(1, 3))):
        side = int(random.integers(14, 26))
        x, y = int(random.integers(0, width - side)), int(random.integers(0, height - side))
        pixels[y : y + side, x : x + side] = (220, 180, 60)
        boxes.append((x, y, x + side, y + side))
    count = len(boxes)
    return LabelledPicture(
        f"{seed}.png", width, height, lambda: pixels, PictureTruth(np.array(boxes, float), [0] * count)
    )


def training(folder, settings=SETTINGS, pictures=6):
    train, held = [picture(seed) for seed in range(pictures)], [picture(seed) for seed in range(100, 102)]
    return Training(settings, ["square"], train, held, folder, "hash")


def weights(folder):
    return safetensors.torch.load_file(folder / "latest.safetensors")


def assert_same(first, second):
    assert first.keys() == second.keys()
    for name in first:
        assert (first[name] == second[name]).all(), name


@pytest.mark.long
@pytest.mark.slow
def test_same_seed_same_weights(tmp_path):
    reports = [[], []]
    for number in (0, 1):
        assert training(tmp_path / str(number)).run(reports[number].append)
    assert_same(weights(tmp_path / "0"), weights(tmp_path / "1"))
    assert [r.loss for r in reports[0]] == [r.loss for r in reports[1]]
    assert [r.epoch for r in reports[0]] == [1, 2, 3, 4] and reports[0][-1].validation is not None


@pytest.mark.slow
def test_stopped_and_resumed_equals_never_stopped(tmp_path):
    training(tmp_path / "whole").run(lambda report: None)
    steps = []
    first = training(tmp_path / "halves")
    # Stops in the middle of the third epoch, which is then trained again from its start.
    assert not first.run(lambda report: None, lambda step, loss: steps.append(step), lambda: len(steps) == 8)
    second = training(tmp_path / "halves")
    assert second.resume() and second.progress.epoch == 2
    assert second.run(lambda report: None)
    assert_same(weights(tmp_path / "whole"), weights(tmp_path / "halves"))


@pytest.mark.slow
def test_validation_touches_no_weight(tmp_path):
    run = training(tmp_path)
    before = {name: value.clone() for name, value in run.average.state_dict().items()}
    assert run.validate() == run.validate()
    for name, value in run.average.state_dict().items():
        assert (before[name] == value).all()


@pytest.mark.long
@pytest.mark.slow
def test_it_learns_squares(tmp_path):
    run = training(
        tmp_path,
        Settings(side=96, epochs=40, batch=4, seed=0, augmentation=Augmentation(flips="all")),
        pictures=12,
    )
    reports = []
    run.run(reports.append)
    assert max(r.validation.map50 for r in reports) > 0.9
    found = Predictor.from_bundle(tmp_path / "best.zip")
    held = picture(500, 192, 128)
    candidates = found.candidates([held.read()], 0.25)[0].after_suppression(0.25, 0.5)
    assert (candidates.boxes[:, 2:] <= (192, 128)).all()


@pytest.mark.slow
def test_runaway_loss_stops_and_keeps_the_checkpoint(tmp_path):
    run = training(tmp_path)
    run.run(lambda report: None)
    kept = weights(tmp_path)
    broken = training(
        tmp_path, Settings(side=96, epochs=6, batch=2, seed=3, augmentation=Augmentation(flips="sideways"))
    )
    broken.resume()
    next(broken.network.parameters()).data.fill_(float("nan"))
    with pytest.raises(
        InputError,
        match=r"box loss is no longer a finite number in epoch 5, batch 1 \(pictures \d\.png, \d\.png\)",
    ):
        broken.run(lambda report: None)
    assert_same(kept, weights(tmp_path))


def test_epochs_do_not_depend_on_each_other():
    pictures = TrainingPictures([picture(seed) for seed in range(5)], 96, 2, Augmentation(), 1)
    alone = [batch.pixels for batch in pictures.epoch(3)]
    list(pictures.epoch(2))
    for a, b in zip(alone, [batch.pixels for batch in pictures.epoch(3)], strict=True):
        np.testing.assert_array_equal(a, b)
    assert len(alone) == 3 and all(len(pixels) == 2 for pixels in alone)


@pytest.mark.parametrize("augmentation", [Augmentation(flips="all"), Augmentation("all", hue=30, copy_in=1)])
def test_batches_are_the_same_where_no_picture_can_be_kept(tmp_path, monkeypatch, augmentation):
    pictures = [picture(seed) for seed in range(5)]
    kept = TrainingPictures(pictures, 96, 2, augmentation, 1, passes=2, folder=tmp_path / "kept")
    wanted = [*kept.epoch(0), *kept.epoch(1)]
    monkeypatch.setattr(
        "avocet.detector.pictures.pixel_cache.shutil.disk_usage", lambda path: SimpleNamespace(free=40_000)
    )
    scarce = TrainingPictures(pictures, 96, 2, augmentation, 1, passes=2, folder=tmp_path / "scarce")
    assert [scarce._cache.keeps(index) for index in range(5)] == [True, *[False] * 4]
    for ours, theirs in zip([*scarce.epoch(0), *scarce.epoch(1)], wanted, strict=True):
        np.testing.assert_array_equal(ours.pixels, theirs.pixels)
        np.testing.assert_array_equal(ours.truths.boxes, theirs.truths.boxes)
        np.testing.assert_array_equal(ours.truths.ignored, theirs.truths.ignored)


def test_unreadable_picture_ends_the_epoch_with_its_error():
    def fail():
        raise InputError("belt.jpg is damaged")

    broken = LabelledPicture("belt.jpg", 96, 64, fail, PictureTruth([], []))
    with pytest.raises(InputError, match=r"belt\.jpg"):
        list(TrainingPictures([broken], 96, 1, Augmentation(), 0).epoch(0))


def test_validation_honours_crowds_as_judge_does():
    """Of three detections in a crowd none is a false alarm: the best epoch is chosen by what Judge will say."""
    truth = PictureTruth([[0, 0, 10, 10], [20, 0, 60, 40]], [0, 0], crowd=[False, True])
    held = SimpleNamespace(pictures=[LabelledPicture("a.png", 96, 64, lambda: None, truth)])
    found = PictureDetections(
        [[22, 2, 34, 14], [40, 4, 52, 16], [24, 20, 36, 32], [0, 0, 10, 10]], [0.9, 0.8, 0.7, 0.6], [0] * 4
    )
    told = _figures(["roll"], held, [found], np.zeros(3), False)
    judged = measure(["roll"], [truth], [Candidates(found.boxes, found.scores, found.classes)], 1.0)
    assert told.map50 == judged["map50"] == 1.0 and told.map == judged["map"]


@pytest.mark.parametrize(
    ("values", "expected"),
    [
        ({"side": 100}, "input side must be a multiple of 32 between 96 and 2,048, not 100"),
        ({"epochs": 0}, "epochs"),
        ({"batch": 0}, "batch"),
        ({"size": "heron"}, "heron"),
        ({"learning_rate": 1.0}, "learning rate"),
        ({"flips": "up"}, "flips"),
        ({"optimizer": "magic"}, "optimiser must be one of adamw, sgd"),
        ({"warm_up": 2}, "warm-up must lie between 0 and 0.5"),
        ({"anchors": [[[1, 2]]]}, "1 to 30 anchors over 3 strides are needed, not 1 over 1"),
        ({"anchors": [[], [], []]}, "1 to 30 anchors over 3 strides are needed, not 0 over 3"),
        ({"anchors": [[[5, 5]] * 31, [], []]}, "1 to 30 anchors over 3 strides are needed, not 31 over 3"),
        ({"anchors": [[0, 2]] * 9}, "anchor must be 1 to 4096"),
        ({"anchors": [3]}, "wrong kind"),
        ({"batch": "many"}, "wrong kind"),
        ({"flavour": 1}, "no setting 'flavour'"),
        ({"augmentation": {"warp": 1}}, "no augmentation 'warp'"),
        ({"augmentation": {"turn": 90}}, "turn must lie between 0 and 45"),
        ({"augmentation": {"scale_least": 0.01}}, "smallest must lie between"),
        ({"extended": [0]}, "extended by 1 to"),
        ({"seed": -1}, "seed"),
    ],
)
def test_unusable_settings_are_named(values, expected):
    with pytest.raises(InputError, match=expected):
        settings_from(values)


def test_nothing_to_learn_from_is_said(tmp_path):
    empty = LabelledPicture("a", 96, 64, lambda: None, PictureTruth([], []))
    for parts, expected in (
        (([], [picture(0)]), "training part"),
        (([picture(0)], []), "validation part"),
        (([empty], [picture(0)]), "hold no box"),
    ):
        with pytest.raises(InputError, match=expected):
            Training(SETTINGS, ["square"], *parts, tmp_path)


@pytest.mark.slow
def test_other_networks_checkpoint_is_refused(tmp_path):
    training(tmp_path).run(lambda report: None)
    other = Training(SETTINGS, ["square", "ring"], [picture(0)], [picture(1)], tmp_path)
    with pytest.raises(InputError, match=r"latest\.safetensors cannot be read"):
        other.resume()
