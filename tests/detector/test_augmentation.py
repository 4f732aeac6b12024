import numpy as np
import pytest
import torch

from avocet.detector.engines.torch_engine import as_input
from avocet.detector.pictures.augmentation import Augmentation, Sample, _Flip, collage, copy_in, place, turn
from avocet.detector.pictures.colours import drawn_light, lit, recolour, shift_colours


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
        rows, columns = np.nonzero(sample.pixels[..., label] > 128)
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


@pytest.mark.parametrize("transposed", [False, True])
@pytest.mark.parametrize("sideways", [False, True])
@pytest.mark.parametrize("upside_down", [False, True])
def test_flipped_pictures_are_those_that_indices_give(transposed, sideways, upside_down):
    random = np.random.default_rng(1)
    for _ in range(20):
        pixels = random.integers(0, 256, (*random.integers(1, 90, 2), 3), dtype=np.uint8)
        plain = pixels.swapaxes(0, 1) if transposed else pixels
        plain = plain[:, ::-1] if sideways else plain
        plain = plain[::-1] if upside_down else plain
        np.testing.assert_array_equal(_Flip(transposed, sideways, upside_down).picture(pixels), plain)


def test_what_was_in_a_canvas_does_not_show():
    for seed in range(30):
        sample, factor = marked([[10, 8, 34, 22]]), 0.4 + seed / 20
        fresh, used = np.zeros((64, 96, 3), np.uint8), np.full((64, 96, 3), 77, np.uint8)
        for canvas in (fresh, used):
            generator = np.random.default_rng(seed)
            if seed % 2:
                collage(
                    [sample] * 4, 96, 64, [factor] * 4, Augmentation(flips="all"), generator, canvas=canvas
                )
            else:
                place(sample, 96, 64, factor, Augmentation(flips="all"), generator, canvas=canvas)
        np.testing.assert_array_equal(fresh, used)


@pytest.mark.parametrize("side", range(1, 100))
def test_next_to_nothing_is_left_of_a_picture_and_yet_a_pixel(side):
    sample = marked([], side, side)
    sample.pixels[...] = 200
    placed = place(sample, 16, 16, 1e-4, Augmentation(), np.random.default_rng(side), (0, 0, 0))
    assert (placed.pixels == 200).all(axis=2).sum() == 1


@pytest.mark.parametrize("seed", range(8))
def test_collage_keeps_boxes_on_their_objects(seed):
    samples = [marked([[10, 8, 34, 22]]), marked([]), marked([]), marked([])]
    made = collage(samples, 128, 96, [0.8] * 4, Augmentation(flips="all"), np.random.default_rng(seed))
    assert made.pixels.shape == (96, 128, 3)
    assert_boxes_fit_their_fill(made)


class Leftmost:
    """Pushes the picture as far to the left as it goes, and flips nothing."""

    def integers(self, low, high):
        return low

    def random(self, count):
        return np.ones(count)


def test_boxes_cut_down_too_far_are_dropped():
    sample = marked([[0, 0, 30, 60], [40, 0, 80, 60]])
    placed = place(sample, 40, 60, 1.0, Augmentation(), Leftmost())
    assert placed.classes.tolist() == [1] and placed.boxes.tolist() == [[0, 0, 40, 60]]


def test_of_what_the_pictures_edge_cuts_already_nothing_is_learnt_where_it_is_cut_once_more():
    """Of three, one lies in the midst, one reaches the left edge, one fills all of the picture's width."""

    sample = marked([[30, 2, 60, 20], [0, 22, 30, 40], [0, 42, 80, 56]])
    assert sample.at_edge.tolist() == [False, True, False]
    whole = place(sample, 80, 60, 1.0, Augmentation(), Leftmost())
    assert whole.boxes.tolist() == sample.boxes.tolist() and not whole.ignored.any()
    cut = place(sample, 60, 60, 1.0, Augmentation(), Leftmost())
    assert cut.boxes.tolist() == [[10, 2, 40, 20], [0, 22, 10, 40], [0, 42, 60, 56]]
    assert cut.ignored.tolist() == [False, True, False]


def test_a_part_is_not_copied_as_if_it_were_all():
    part = marked([[0, 22, 30, 40]])
    made = copy_in(marked([]), [part], [1.0], np.random.default_rng(0))
    assert not len(made.boxes) and not made.pixels.any()


def test_light_stays_in_range_and_keeps_black():
    pixels = np.full((4, 4, 3), 200, np.uint8)
    drawn = [drawn_light(0.2, np.random.default_rng(seed)) for seed in range(50)]
    shown = [lit(pixels, each).mean() for each in drawn]
    assert 150 < min(shown) < 185 and 215 < max(shown) <= 255
    assert not lit(np.zeros((4, 4, 3), np.uint8), drawn[0]).any()
    assert drawn_light(0, np.random.default_rng(0)).tolist() == [1, 1, 1]
    given = as_input(pixels[None], torch.device("cpu"), drawn[0][None])
    np.testing.assert_allclose(given[0, :, 0, 0].numpy() * 255, lit(pixels, drawn[0])[0, 0], atol=0.51)


@pytest.mark.parametrize("seed", range(6))
def test_turned_boxes_hold_turned_ellipses(seed):
    """The box of a turned ellipse, measured on the turned pixels themselves."""
    random = np.random.default_rng(seed)
    half = random.uniform(9, 22, 2)
    y, x = np.mgrid[0:120, 0:120]
    ellipse = (((x + 0.5 - 60) / half[0]) ** 2 + ((y + 0.5 - 60) / half[1]) ** 2) <= 1
    pixels = np.repeat((ellipse * 255).astype(np.uint8)[..., None], 3, axis=2)
    box = np.array([[60 - half[0], 60 - half[1], 60 + half[0], 60 + half[1]]])
    sample = Sample(pixels, box, np.zeros(1, int), np.zeros(1, bool))
    turned = turn(sample, float(random.uniform(-45, 45)))
    rows, columns = np.nonzero(turned.pixels[..., 0] > 128)
    inside = (columns >= 20) & (columns < 100) & (rows >= 20) & (rows < 100)
    rows, columns = rows[inside], columns[inside]
    seen = [columns.min(), rows.min(), columns.max() + 1, rows.max() + 1]
    assert np.abs(turned.boxes[0] - seen).max() <= 1.5


def test_no_shift_keeps_the_middle():
    sample = marked([[30, 20, 50, 40]])
    placed = place(sample, 120, 100, 1.0, Augmentation(flips="none", shift=0), np.random.default_rng(3))
    assert placed.boxes.tolist() == [[50, 40, 70, 60]]


@pytest.mark.parametrize("seed", range(10))
def test_copied_objects_cover_little_and_bring_their_box(seed):
    generator = np.random.default_rng(seed)
    sample, donor = marked([[10, 8, 34, 22]]), marked([[5, 5, 25, 30]])
    donor.pixels[..., 2] = donor.pixels[..., 0]
    made = copy_in(sample, [donor, donor], [1.0, 0.5], generator)
    assert made.boxes[0].tolist() == [10, 8, 34, 22] and len(made.boxes) <= 3
    for first in range(len(made.boxes)):
        for second in range(first + 1, len(made.boxes)):
            a, b = made.boxes[first], made.boxes[second]
            shared = max(0, min(a[2], b[2]) - max(a[0], b[0])) * max(0, min(a[3], b[3]) - max(a[1], b[1]))
            least = min((a[2] - a[0]) * (a[3] - a[1]), (b[2] - b[0]) * (b[3] - b[1]))
            assert shared <= 0.2 * least
    for x1, y1, x2, y2 in made.boxes[1:].astype(int):
        middle = made.pixels[(y1 + y2) // 2, (x1 + x2) // 2]
        assert middle[0] > 200 and middle[2] > 200


def test_nothing_to_copy_changes_nothing():
    sample = marked([[10, 8, 34, 22]])
    ignored = Sample(sample.pixels, sample.boxes, sample.classes, np.ones(1, bool))
    made = copy_in(sample, [ignored, marked([])], [1.0, 1.0], np.random.default_rng(0))
    np.testing.assert_array_equal(made.pixels, sample.pixels)
    assert len(made.boxes) == 1


def test_colours():
    random = np.random.default_rng(0)
    pixels = random.integers(60, 190, (12, 10, 3), dtype=np.uint8)
    same = shift_colours(pixels, 0, 1)
    assert np.abs(same.astype(int) - pixels).max() <= 1
    there_and_back = shift_colours(shift_colours(pixels, 20, 1), -20, 1)
    assert np.abs(there_and_back.astype(int) - pixels).max() <= 3
    grey = np.repeat(pixels[..., :1], 3, axis=2)
    assert np.abs(shift_colours(grey, 77, 1.7).astype(int) - grey).max() <= 1
    strong = Augmentation(hue=60, saturation=0.8, blur=2)
    varied = [recolour(pixels, strong, np.random.default_rng(seed)) for seed in (1, 1, 2)]
    np.testing.assert_array_equal(varied[0], varied[1])
    assert (varied[0] != varied[2]).any() and varied[0].shape == pixels.shape


@pytest.mark.parametrize("seed", range(8))
def test_everything_at_once_keeps_boxes_in_the_canvas(seed):
    every = Augmentation("all", 0.5, 1.6, 0.7, 20, 0.4, 30, 0.5, 1.5, 0.5, 1.0)
    generator = np.random.default_rng(seed)
    samples = [marked([[10, 8, 34, 22], [45, 30, 70, 55]]) for _ in range(4)]
    made = collage(samples, 128, 96, [0.9] * 4, every, generator)
    made = copy_in(made, samples[:2], [0.8, 0.8], generator)
    assert (made.boxes[:, :2] >= 0).all() and (made.boxes[:, 2:] <= (128, 96)).all()
    assert len(made.boxes) == len(made.classes) == len(made.ignored)


@pytest.mark.parametrize("flips", ["none", "all"])
@pytest.mark.parametrize("seed", range(12))
def test_boxes_lie_where_their_pixels_do_to_a_tenth_of_a_pixel(flips, seed):
    """Around the box red rises by eight with every pixel across, green by eight down: colours tell the place."""
    generator = np.random.default_rng(seed)
    pixels = np.zeros((90, 120, 3), np.uint8)
    pixels[..., 0] = np.clip(8 * (np.arange(120) - 45), 0, 255)
    pixels[..., 1] = np.clip(8 * (np.arange(90) - 35), 0, 255)[:, None]
    sample = Sample(pixels, np.array([[50, 40, 70, 50]]), np.zeros(1, int), np.zeros(1, bool))
    # The box lies in the midst and is seen whole, wherever the picture is shifted to.
    placed = place(sample, 112, 104, generator.uniform(0.6, 1.3), Augmentation(flips=flips), generator)
    x1, y1, x2, y2 = placed.boxes[0]
    columns, rows = np.arange(int(x1) + 2, int(x2) - 2), np.arange(int(y1) + 2, int(y2) - 2)
    shown = placed.pixels[rows[:, None], columns].astype(float) / 8 + 0.5
    across, down = (columns + 0.5 - x1) / (x2 - x1), (rows + 0.5 - y1) / (y2 - y1)
    # Whichever way it was flipped: both rise or fall evenly over the box, from one of its edges to the other.
    for channel, low, high in ((0, 5, 25), (1, 5, 15)):
        ways = [
            low + (high - low) * way
            for share in (across[None, :], down[:, None])
            for way in (share, 1 - share)
        ]
        assert min(np.abs(shown[..., channel] - way).mean() for way in ways) < 0.1
