"""What the settings of a run do: freezing, patience, extending, multi-scale, number formats, bad cases."""

import errno
import os
import signal
import subprocess
import sys
import time
from dataclasses import replace

import numpy as np
import pytest
import torch

from avocet.core.detections import PictureTruth
from avocet.core.errors import InputError
from avocet.detector.model.device import chosen_device
from avocet.detector.model.shipped import shipped_weights
from avocet.detector.model.sizes import backbone_parameter_count, parameter_count, size_named
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.batches import TrainingPictures
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.pictures.pixel_cache import PixelCache
from avocet.detector.training import trainer
from avocet.detector.training.schedule import learning_rate
from avocet.detector.training.settings import Settings
from tests.detector.test_training import SETTINGS, assert_same, picture, training, weights


@pytest.mark.long
@pytest.mark.slow
def test_killed_in_mid_epoch_and_resumed_equals_never_killed(tmp_path):
    """A real process, really killed: `kill -9` while a step of the third epoch is at work."""
    training(tmp_path / "whole").run(lambda report: None)
    script = (
        "import sys, time; from pathlib import Path\n"
        "from tests.detector.test_training import training\n"
        "def on_step(step, loss):\n"
        "    if step == 8: print('now', flush=True); time.sleep(60)\n"
        "training(Path(sys.argv[1])).run(lambda report: None, on_step)\n"
    )
    process = subprocess.Popen(
        [sys.executable, "-c", script, str(tmp_path / "killed")], stdout=subprocess.PIPE, text=True
    )
    assert process.stdout.readline().strip() == "now"
    os.kill(process.pid, signal.SIGKILL)
    process.wait(timeout=20)
    again = training(tmp_path / "killed")
    assert again.resume() and again.progress.epoch == 2
    assert again.run(lambda report: None)
    assert_same(weights(tmp_path / "whole"), weights(tmp_path / "killed"))


@pytest.mark.slow
@pytest.mark.parametrize("settings", [{"optimizer": "sgd"}, {"average": 0.0, "multi_scale": True}])
def test_other_settings_resume_bit_for_bit_too(tmp_path, settings):
    chosen = replace(SETTINGS, **settings)
    training(tmp_path / "whole", chosen).run(lambda report: None)
    steps = []
    first = training(tmp_path / "halves", chosen)
    first.run(lambda report: None, lambda step, loss: steps.append(step), lambda: len(steps) == 5)
    second = training(tmp_path / "halves", chosen)
    assert second.resume() and second.run(lambda report: None)
    assert_same(weights(tmp_path / "whole"), weights(tmp_path / "halves"))


@pytest.mark.slow
def test_frozen_backbone_stays_as_it_was(tmp_path):
    run = training(tmp_path, replace(SETTINGS, epochs=1, freeze_backbone=True))
    run.start_from(shipped_weights("stint"))
    before = {name: value.clone() for name, value in run.network.state_dict().items()}
    run.run(lambda report: None)
    changed = {name for name, value in run.network.state_dict().items() if (value != before[name]).any()}
    assert changed and all(name.startswith(("lateral", "smooth", "heads")) for name in changed)
    size = size_named(run.settings.size)
    counted = 1 - backbone_parameter_count(size) / parameter_count(
        size, len(run.class_names), [len(level) for level in run.anchors]
    )
    assert run.trained_share == pytest.approx(counted) and 0.05 < counted < 0.3


@pytest.mark.slow
def test_patience_ends_a_run_that_gets_no_better(tmp_path):
    reports = []
    # A learning rate next to nothing: the first epoch stays the best.
    run = training(tmp_path, replace(SETTINGS, epochs=9, learning_rate=1e-9, average=0.0, patience=2))
    assert run.run(reports.append)
    assert len(reports) < 9 and run.progress.epoch - run.progress.best_epoch == 2


@pytest.mark.slow
def test_extended_runs_go_on_from_where_they_ended(tmp_path):
    settings = replace(SETTINGS, epochs=2)
    training(tmp_path, settings).run(lambda report: None)
    longer = training(tmp_path, replace(settings, extended=(1,)))
    reports = []
    assert longer.resume() and longer.run(reports.append)
    assert [report.epoch for report in reports] == [3]
    assert reports[0].learning_rate < 0.3 * settings.learning_rate


def test_learning_rates():
    settings = Settings(epochs=4, learning_rate=0.01, warm_up=0.25, extended=(2,))
    rates = [learning_rate(settings, step, 10) for step in range(60)]
    assert rates[:10] == pytest.approx(np.linspace(0.001, 0.01, 10))
    assert rates[10:40] == sorted(rates[10:40], reverse=True) and rates[39] == pytest.approx(0.0002)
    assert max(rates[40:]) == pytest.approx(0.003) and rates[-1] == pytest.approx(0.00006)
    linear = [learning_rate(replace(settings, schedule="linear"), step, 10) for step in range(10, 40)]
    assert np.diff(linear) == pytest.approx(np.full(29, np.diff(linear)[0]))
    assert {learning_rate(replace(settings, schedule="constant"), step, 10) for step in range(10, 40)} == {
        0.01
    }
    assert learning_rate(replace(settings, warm_up=0), 0, 10) == 0.01


def test_sides_change_every_epoch_in_steps_of_32():
    pictures = [picture(seed) for seed in range(6)]
    loader = TrainingPictures(pictures, 128, 2, Augmentation(collage=0), 0, passes=2, multi_scale=True)
    epochs = [[batch.pixels.shape[1:3] for batch in loader.epoch(number)] for number in range(6)]
    assert all(len(set(sides)) == 1 for sides in epochs)
    sides = [each[0] for each in epochs]
    assert all(h % 32 == 0 and w % 32 == 0 for h, w in sides)
    assert len(set(sides)) > 1 and all(abs(w - 128) <= 32 for _, w in sides)
    assert [batch.pixels.shape[1:3] for batch in loader.epoch(3)] == epochs[3]
    loader.close()


@pytest.mark.slow
def test_one_picture_one_class_boxes_of_one_size(tmp_path):
    random = np.random.default_rng(0)
    pixels = random.integers(0, 255, (64, 96, 3), dtype=np.uint8)
    only = LabelledPicture("a.png", 96, 64, lambda: pixels, PictureTruth([[10.0, 10, 30, 30]], [0]))
    run = trainer.Training(replace(SETTINGS, epochs=1, batch=8, passes=3), ["roll"], [only], [only], tmp_path)
    reports = []
    assert run.run(reports.append) and np.isfinite(reports[0].loss)
    assert [len(level) for level in run.anchors] == [3, 0, 0], "20 pixels are two cells of the finest level"
    assert len({tuple(size) for size in run.anchors[0].tolist()}) == 3, "three anchors from one size"


@pytest.mark.slow
def test_full_disk_keeps_the_last_checkpoint(tmp_path, monkeypatch):
    run = training(tmp_path)
    kept = {}

    def fail(*args):
        kept.update(weights(tmp_path))
        raise OSError(errno.ENOSPC, "No space left on device")

    def after_two(report):
        if report.epoch == 2:
            monkeypatch.setattr(trainer, "save_checkpoint", fail)

    with pytest.raises(InputError, match=r"epoch 2 could not be kept in .*: No space left on device"):
        run.run(after_two)
    monkeypatch.undo()
    assert_same(kept, weights(tmp_path))
    again = training(tmp_path)
    assert again.resume() and again.progress.epoch == 1


@pytest.mark.slow
def test_bfloat16_by_choice(tmp_path):
    run = training(tmp_path, replace(SETTINGS, epochs=1, number_format="bfloat16"))
    reports = []
    run.run(reports.append)
    assert run.progress.number_format == "bfloat16" and np.isfinite(reports[0].loss)
    resumed = training(tmp_path, replace(SETTINGS, epochs=1, number_format="float32"))
    resumed.resume()
    assert resumed.progress.number_format == "bfloat16", "a run keeps the format that it began in"


def test_device_by_environment(monkeypatch):
    monkeypatch.setenv("AVOCET_DEVICE", "cpu")
    assert chosen_device() == torch.device("cpu")
    monkeypatch.setenv("AVOCET_DEVICE", "toaster")
    with pytest.raises(InputError, match="AVOCET_DEVICE is 'toaster'"):
        chosen_device()


def test_pictures_are_decoded_once_and_beyond_the_disk_each_time(tmp_path, monkeypatch):
    made = []

    def make(value):
        made.append(value)
        return np.full((4, 5, 3), value, np.uint8)

    cache = PixelCache(tmp_path, "some.pixels", [(4, 5)] * 3)
    for _ in range(2):
        for index in range(3):
            assert (cache.get(index, lambda index=index: make(index)) == index).all()
    assert made == [0, 1, 2]
    cache.close()
    assert list(tmp_path.iterdir()) == []
    monkeypatch.setattr(
        "avocet.detector.pictures.pixel_cache.shutil.disk_usage", lambda path: type("D", (), {"free": 250})()
    )
    scarce = PixelCache(tmp_path, "some.pixels", [(4, 5)] * 3)
    for _ in range(2):
        for index in range(3):
            assert (scarce.get(index, lambda index=index: make(index)) == index).all()
    assert made[3:] == [0, 1, 2, 2], "half of the 250 free bytes holds two pictures of 60"
    scarce.close()


@pytest.mark.slow
def test_waiting_costs_nothing_of_the_result(tmp_path):
    """Steps that stall, as on a shared machine, change no weight."""
    training(tmp_path / "even").run(lambda report: None)
    training(tmp_path / "stalled").run(lambda report: None, lambda step, loss: time.sleep(0.05 * (step % 3)))
    assert_same(weights(tmp_path / "even"), weights(tmp_path / "stalled"))
