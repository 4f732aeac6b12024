import numpy as np
import pytest

from avocet.detector.augmentation import Augmentation, Sample, collage, place
from avocet.detector.colours import light


def marked(boxes, width=80, height=60):
    """A dark picture in which every box is filled with a colour channel of its own."""
    pixels = np.zeros((height, width, 3), np.uint8)
    for number, (x1, y1, x2, y2) in enumerate(boxes):
        pixels[y1:y2, x1:x2, number] = 255
    return Sample(
        pixels, np.asarray(boxes, float).reshape(-1, 4), np.arange(len(boxes)), np.zeros(len(boxes), bool)
    )


def assert_boxes_fit_their_fill(sample):
    """Every box still surrounds exactly the pixels of its own colour; the padding is darker."""
    for label, (x1, y1, x2, y2) in zip(sample.classes, sample.boxes, strict=True):
        rows, columns = np.nonzero(sample.pixels[..., label] > 127)
        assert abs(columns.min() - x1) <= 1 and abs(columns.max() + 1 - x2) <= 1
        assert abs(rows.min() - y1) <= 1 and abs(rows.max() + 1 - y2) <= 1


@pytest.mark.parametrize("flips", ["none", "sideways", "all"])
@pytest.mark.parametrize("factor", [0.7, 1.0, 1.6])
@pytest.mark.parametrize("seed", range(8))
def test_boxes_stay_on_their_objects(flips, factor, seed):
    sample = marked([[10, 8, 34, 22], [45, 30, 70, 55]])
    placed = place(sample, 96, 64, factor, Augmentation(flips=flips), np.random.default_rng(seed))
    assert placed.pixels.shape == (64, 96, 3)
    assert (placed.boxes[:, :2] >= 0).all() and (placed.boxes[:, 2:] <= (96, 64)).all()
    assert_boxes_fit_their_fill(placed)


@pytest.mark.parametrize("seed", range(8))
def test_collage_keeps_boxes_on_their_objects(seed):
    samples = [marked([[10, 8, 34, 22]]), marked([]), marked([]), marked([])]
    made = collage(samples, 128, 96, [0.8] * 4, Augmentation(flips="all"), np.random.default_rng(seed))
    assert made.pixels.shape == (96, 128, 3)
    assert_boxes_fit_their_fill(made)


def test_boxes_cut_down_too_far_are_dropped():
    class Leftmost:
        """Pushes the picture as far to the left as it goes, and flips nothing."""

        def integers(self, low, high):
            return low

        def random(self, count):
            return np.ones(count)

    sample = marked([[0, 0, 30, 60], [40, 0, 80, 60]])
    placed = place(sample, 40, 60, 1.0, Augmentation(), Leftmost())
    assert placed.classes.tolist() == [1] and placed.boxes.tolist() == [[0, 0, 40, 60]]


def test_light_stays_in_range_and_keeps_black():
    pixels = np.full((4, 4, 3), 200, np.uint8)
    lit = [light(pixels, 0.2, np.random.default_rng(seed)).mean() for seed in range(50)]
    assert 150 < min(lit) < 185 and 215 < max(lit) <= 255
    assert not light(np.zeros((4, 4, 3), np.uint8), 0.2, np.random.default_rng(0)).any()
