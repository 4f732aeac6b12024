"""From a network's raw outputs to boxes in original pixels, and annotated copies."""

import copy

import numpy as np
import pytest
import torch

from avocet.core.detections import PictureTruth
from avocet.core.raw.candidates import MOST_CANDIDATES, Candidates
from avocet.core.raw.letterbox import letterbox
from avocet.detector.engines.torch_engine import TorchEngine
from avocet.detector.model.card import ModelCard
from avocet.detector.model.network import Network
from avocet.detector.model.predictor import Predictor, candidates_of
from avocet.detector.model.sizes import SIZES, parameter_count, size_named
from avocet.detector.pictures.batches import HeldOutPictures
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.pictures.resizing import lay_in, mean_colour
from avocet.media.drawing import draw_boxes

CARD = ModelCard(size="stint", classes=["roll", "ring"], side=96, anchors=[[(16.0, 16.0)] * 3] * 3, reach=2.0)


def silent_levels(rows=8, columns=12, classes=2):
    """Raw outputs in which no cell says anything."""
    return [np.full((3, 5 + classes, rows // step, columns // step), -20.0, np.float32) for step in (1, 2, 4)]


@pytest.mark.parametrize(("width", "height"), [(96, 64), (960, 640), (333, 222)])
def test_a_cell_that_speaks_becomes_a_box_in_the_picture(width, height):
    levels = silent_levels()
    # Level 0, row 2, column 5: centre (44, 20) in the input, the anchor's own size, class 'ring'.
    levels[0][1, :, 2, 5] = [0, 0, 0, 0, 20, -20, 20]
    box = letterbox(width, height, 96)
    assert (box.input_width, box.input_height) == (96, 64)
    found = candidates_of(levels, CARD, box, width, height, 0.5)
    scale = width / 96
    np.testing.assert_allclose(found.boxes, np.array([[36, 12, 52, 28]]) * scale, rtol=0.02)
    assert found.classes.tolist() == [1] and found.scores[0] == pytest.approx(1, abs=1e-6)


def test_boxes_over_the_edge_are_cut_and_those_in_the_padding_dropped():
    levels = silent_levels(12, 12)
    levels[0][0, :, 11, 5] = [0, 0, 0, 0, 20, 20, -20]  # wholly in the padding below a 96×48 picture
    levels[0][0, :, 3, 0] = [0, 0, 0, 0, 20, 20, -20]
    box = letterbox(96, 48, 96, square=True)
    found = candidates_of(levels, CARD, box, 96, 48, 0.5)
    assert found.boxes.tolist() == [[0, 0, 12, 12]]


def test_only_the_best_candidates_are_looked_at():
    levels = silent_levels(48, 72)
    levels[0][:, 4:6] = np.random.default_rng(0).normal(3, 0.5, (3, 2, 48, 72))
    found = candidates_of(levels, CARD, letterbox(576, 384, 576), 576, 384, 0.1)
    assert len(found.scores) == MOST_CANDIDATES and (np.diff(found.scores) <= 0).all()


def test_suppression_is_by_class_and_above_the_score():
    found = Candidates(
        np.array([[0, 0, 10, 10], [0, 0, 10, 9], [0, 0, 10, 10], [50, 0, 60, 10]], float),
        np.array([0.9, 0.8, 0.7, 0.1]), np.array([0, 0, 1, 0]),
    )  # fmt: skip
    kept = found.after_suppression(0.2, 0.5)
    assert kept.scores.tolist() == [0.9, 0.7] and kept.classes.tolist() == [0, 1]
    assert found.after_suppression(0.2, 0.95).scores.tolist() == [0.9, 0.8, 0.7]
    assert len(found.after_suppression(0.95, 0.5).scores) == 0


@pytest.fixture(scope="module")
def predictor():
    network = Network(size_named("stint"), 2)
    for head in network.heads:
        head.bias.data[:] = 0  # an untrained network that nevertheless speaks up everywhere
    return Predictor(CARD, TorchEngine(network))


def noise(seed, height, width):
    return np.random.default_rng(seed).integers(0, 255, (height, width, 3), dtype=np.uint8)


def test_pictures_of_all_sizes_at_once_are_as_one_by_one(predictor):
    pictures = [noise(0, 64, 96), noise(1, 200, 100), noise(2, 128, 192), noise(3, 9, 300), noise(4, 64, 96)]
    together = predictor.candidates(pictures, 0.2)
    for pixels, found in zip(pictures, together, strict=True):
        alone = predictor.candidates([pixels], 0.2)[0]
        height, width = pixels.shape[:2]
        assert len(found.boxes) == len(alone.boxes) > 0
        np.testing.assert_allclose(found.scores, alone.scores, atol=1e-4)
        assert (found.boxes >= 0).all() and (found.boxes <= [width, height, width, height]).all()
    assert predictor.candidates([], 0.2) == []


@pytest.mark.parametrize("name", list(SIZES))
def test_every_size_gives_one_answer_a_cell_and_anchor(name):
    network = Network(size_named(name), 3).eval()
    predictor = Predictor(
        CARD.model_copy(update={"size": name, "classes": ["a", "b", "c"]}), TorchEngine(network)
    )
    levels = predictor.raw(np.zeros((2, 64, 96, 3), np.uint8))
    assert [level.shape for level in levels] == [(2, 3, 8, 8, 12), (2, 3, 8, 4, 6), (2, 3, 8, 2, 3)]
    assert all(np.isfinite(level).all() for level in levels)


def test_sizes_grow():
    counts = [parameter_count(size, 5) for size in SIZES.values()]
    assert counts == sorted(counts) and counts[0] < 1_200_000
    built = [sum(p.numel() for p in Network(size, 5).parameters()) for size in SIZES.values()]
    assert counts == built


def test_letterboxed_pixels_lie_where_the_letterbox_says():
    pixels = np.full((54, 96, 3), 250, np.uint8)
    box = letterbox(96, 54, 192)
    laid = lay_in(pixels, box, (90, 80, 70))
    assert laid.shape == (box.input_height, box.input_width, 3) == (128, 192, 3)
    inside = laid[box.top : box.top + box.height, box.left : box.left + box.width]
    assert (inside == 250).all()
    outside = np.ones(laid.shape[:2], bool)
    outside[box.top : box.top + box.height, box.left : box.left + box.width] = False
    assert (laid[outside] == (90, 80, 70)).all()


def test_the_colour_around_pictures_is_that_of_the_training_pictures():
    shades = [noise(seed, 40, 64) // 4 + 20 * seed for seed in range(4)]
    expected = np.mean([pixels[::4, ::4].reshape(-1, 3).mean(axis=0) for pixels in shades], axis=0)
    assert np.allclose(mean_colour([lambda pixels=pixels: pixels for pixels in shades]), expected, atol=0.5)
    read = []
    mean_colour([lambda number=number: read.append(number) or shades[0] for number in range(1000)])
    assert 16 <= len(read) <= 32 and max(np.diff(read)) == min(np.diff(read)), "some, evenly chosen"


def test_a_model_lays_its_own_colour_around_pictures():
    """What it gives on a picture is what its network gives on the picture laid in by hand."""
    torch.manual_seed(0)
    network = Network(SIZES["stint"], 2)
    pixels = noise(3, 40, 90)
    given = {}
    for padding in ((10, 200, 90), (114, 114, 114)):
        card = CARD.model_copy(update={"padding": padding})
        predictor = Predictor(card, TorchEngine(copy.deepcopy(network)))
        laid = lay_in(pixels, letterbox(90, 40, 96), padding)
        given[padding] = predictor.raw_of(pixels)
        for one, other in zip(given[padding], predictor.raw(laid[None]), strict=True):
            assert np.array_equal(one, other[0])
    assert not np.allclose(*(levels[0] for levels in given.values()))


def test_held_out_pictures_come_in_batches_of_one_shape():
    def picture(seed, height, width):
        pixels = noise(seed, height, width)
        boxes = np.array([[1, 1, width / 2, height / 2]])
        return LabelledPicture(str(seed), width, height, lambda: pixels, PictureTruth(boxes, [0]))

    shapes = [(64, 96), (96, 64), (64, 96), (64, 96), (50, 96)]
    held = HeldOutPictures([picture(seed, *shape) for seed, shape in enumerate(shapes)], 96, 2)
    seen = []
    for indices, batch in held:
        assert len({held.letterbox_of(index).input_height for index in indices}) == 1 and len(indices) <= 2
        assert (
            batch.pixels.shape[0] == len(indices) and (batch.truths.pictures == np.arange(len(indices))).all()
        )
        for row, index in enumerate(indices):
            expected = held.letterbox_of(index).to_input(held.pictures[index].boxes)
            np.testing.assert_allclose(batch.truths.boxes[row : row + 1], expected)
        seen += indices
    assert sorted(seen) == list(range(5))
    again = [batch.pixels for _, batch in held]
    assert all((a == b.pixels).all() for a, (_, b) in zip(again, held, strict=True))


def test_annotated_copies_show_boxes_and_leave_the_picture_alone():
    pixels = np.zeros((200, 300, 3), np.uint8)
    drawn = draw_boxes(
        pixels, [[50, 60, 150, 140], [-5, -5, 20, 20]], ["roll 0.91", "ring 0.5"], ["#E8A33D", "#5FA8D3"]
    )
    assert not pixels.any() and drawn.shape == pixels.shape
    assert (
        drawn[60, 100].tolist() == drawn[100, 50].tolist() == drawn[100, 149].tolist() == [0xE8, 0xA3, 0x3D]
    )
    assert not drawn[100, 100].any() and not drawn[180, 250].any()
    above = drawn[40:60, 50:120]
    assert (above == [0xE8, 0xA3, 0x3D]).all(axis=-1).mean() > 0.2 and (above == [21, 24, 27]).all(
        axis=-1
    ).any()
    assert draw_boxes(pixels, [], [], []).shape == pixels.shape
