"""The benchmark of photographs: what it keeps apart, and the boxes of its scenes."""

import numpy as np
import pytest
from bench import photographs as benchmark
from PIL import Image
from scripts import photographs


@pytest.fixture
def of_plain_colours(monkeypatch):
    """Three cut-outs of one colour each on grey, which no camera changes."""
    monkeypatch.setattr(benchmark, "_camera", lambda canvas, random: canvas.clip(0, 255).astype(np.uint8))
    colours = [(255, 0, 0), (0, 255, 0), (0, 0, 255)]
    cut_outs = [[Image.new("RGBA", (60, 40 + 20 * n), (*each, 255))] for n, each in enumerate(colours)]
    return benchmark.Photographs(cut_outs, [Image.new("RGB", (1200, 900), (128, 128, 128))])


def test_what_is_kept_may_be_used_and_is_kept_once():
    names, parts = photographs._names()
    kept = photographs._kept()
    cut_outs = [name for task in ("goods", "small", "kinds") for some in kept[task].values() for name in some]
    assert len(set(cut_outs)) == len(cut_outs) and set(cut_outs) <= set(names)
    grounds = [part for some in kept["backgrounds"].values() for part in some]
    assert len(set(grounds)) == len(grounds) and set(grounds) <= set(parts)
    assert all(len(some) > 1 for some in kept["kinds"].values()), "one of each kind is never trained on"
    assert {task.kinds for task in benchmark.TASKS.values()} <= kept.keys()


def test_a_box_goes_around_what_is_seen_of_an_object(of_plain_colours):
    task = benchmark.Task("goods", (60, 200), (3, 6), 1, 1)
    looked_at = 0
    for seed in range(12):
        pixels, truth = benchmark.scene(task, of_plain_colours, seed)
        assert 0 < len(truth.boxes) == len(truth.classes) <= 6
        for number in np.flatnonzero(np.bincount(truth.classes, minlength=3) == 1):
            others = [channel for channel in range(3) if channel != number]
            seen = (pixels[..., number] > 90) & (pixels[..., others] < 60).all(axis=2)
            box = truth.boxes[truth.classes == number][0]
            np.testing.assert_allclose(box, benchmark.around(seen), atol=2)
            looked_at += 1
    assert looked_at > 8


def test_the_same_scene_twice_and_others_by_number(of_plain_colours):
    task = benchmark.TASKS["small 24"]
    first, again, other = (benchmark.scene(task, of_plain_colours, seed) for seed in (5, 5, 6))
    np.testing.assert_array_equal(first[0], again[0])
    np.testing.assert_array_equal(first[1].boxes, again[1].boxes)
    assert not np.array_equal(first[0], other[0])
    sides = first[1].boxes[:, 2:] - first[1].boxes[:, :2]
    assert 15 <= len(sides) <= 40 and sides.max() < 60


def test_the_page_s_own_advice_is_trained_with(of_plain_colours, monkeypatch):
    """Kinds keep their last individual for the figures on new ones."""
    one, two = Image.new("RGBA", (60, 50), (250, 0, 0, 255)), Image.new("RGBA", (50, 60), (0, 0, 250, 255))
    monkeypatch.setattr(
        benchmark, "kept_cut_outs", lambda cache, task: {"cat": [one, two], "bin": [one, two]}
    )
    monkeypatch.setattr(benchmark, "kept_backgrounds", lambda cache, part: of_plain_colours.grounds)
    monkeypatch.setattr(benchmark, "TEST", 2)
    chosen, apart = benchmark.task_set(benchmark.Task("kinds", (150, 300), (1, 2), 4, 2), None)
    assert chosen.names == ["cat", "bin"] and (len(chosen.training), len(chosen.validation)) == (4, 2)
    assert list(apart) == ["as learnt", "new backgrounds", "new individuals"]
    reds = [(each.read()[..., 0] > 200).any() for each in (*chosen.training, *apart["as learnt"])]
    blues = [(each.read()[..., 2] > 200).any() for each in apart["new individuals"]]
    assert not any((each.read()[..., 2] > 200).any() for each in chosen.training)
    assert any(reds) and any(blues) and chosen.side in (256, 320)
