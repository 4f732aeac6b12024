import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core import near_pairs
from avocet.core.boxes import iou
from avocet.core.detections import PictureDetections
from avocet.core.raw.candidates import in_picture
from avocet.core.raw.decode import decode
from avocet.core.raw.letterbox import letterbox
from avocet.core.raw.suppression import suppress
from tests.conftest import examples
from tests.core.slow import iou_of_two, suppress_slowly


@st.composite
def scenes(draw):
    """Boxes on a coarse grid with coarse scores: many ties in score and in overlap."""
    count = draw(st.integers(0, 25))
    corner, side = st.integers(0, 12), st.integers(0, 8)
    boxes = [
        (x, y, x + w, y + h)
        for x, y, w, h in draw(
            st.lists(st.tuples(corner, corner, side, side), min_size=count, max_size=count)
        )
    ]
    scores = draw(st.lists(st.sampled_from([0.1, 0.3, 0.5, 0.5, 0.9]), min_size=count, max_size=count))
    classes = draw(st.lists(st.integers(0, 2), min_size=count, max_size=count))
    return boxes, scores, classes


@examples(200)
@given(scenes(), st.sampled_from([0.0, 0.25, 0.5, 1.0]), st.booleans())
def test_equals_the_plain_greedy_loop(scene, limit, by_class):
    boxes, scores, classes = scene
    labels = classes if by_class else None
    result = suppress(boxes, scores, limit, labels)
    kept, dropped_by = suppress_slowly(boxes, scores, limit, labels)
    assert result.kept.tolist() == kept
    assert result.suppressor.tolist() == dropped_by
    for index, suppressor in enumerate(dropped_by):
        expected = iou_of_two(boxes[suppressor], boxes[index]) if suppressor >= 0 else 0.0
        assert result.overlap[index] == pytest.approx(expected)


@pytest.mark.slow
@pytest.mark.parametrize("huge", [False, True])
def test_many_boxes_equal_the_plain_greedy_loop(huge):
    random = np.random.default_rng(0)
    corner, side = random.uniform(0, 600, (700, 2)), random.uniform(10, 90, (700, 2))
    boxes = np.hstack([corner, corner + side])
    if huge:
        boxes[5] = [-1e4, -1e4, 1e4, 1e4]
    scores, classes = random.random(700), random.integers(0, 3, 700)
    kept, dropped_by = suppress_slowly(boxes, scores, 0.4, classes)
    result = suppress(boxes, scores, 0.4, classes)
    assert result.kept.tolist() == kept and result.suppressor.tolist() == dropped_by


@examples(200)
@given(scenes(), st.sampled_from([0.2, 0.5, 0.9, 1.0]))
def test_cells_equal_the_plain_greedy_loop(scene, limit):
    """As many boxes are paired, though here there are few."""
    boxes, scores, classes = scene
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(near_pairs, "FEW_COMPARISONS", -1)
        result = suppress(boxes, scores, limit, classes)
    kept, dropped_by = suppress_slowly(boxes, scores, limit, classes)
    assert result.kept.tolist() == kept and result.suppressor.tolist() == dropped_by


@pytest.mark.parametrize("limit", [0.2, 0.35, 0.5, 0.75])
@pytest.mark.parametrize("spread", [0.1, 1.5])
def test_pairs_of_every_size_are_found(monkeypatch, limit, spread):
    monkeypatch.setattr(near_pairs, "FEW_COMPARISONS", -1)
    random = np.random.default_rng(7)
    sides = 20 * np.exp(random.normal(0, spread, (500, 2)))
    centres = random.uniform(0, 200, (500, 2))
    boxes, labels = np.hstack([centres - sides / 2, centres + sides / 2]), random.integers(0, 2, 500)
    first, second, overlap = near_pairs.pairs_above(boxes, labels, limit)
    overlaps = iou(boxes, boxes)
    a, b = np.nonzero(np.triu(overlaps > limit, 1) & (labels[:, None] == labels))
    assert sorted(zip(first.tolist(), second.tolist(), strict=True)) == list(
        zip(a.tolist(), b.tolist(), strict=True)
    )
    np.testing.assert_allclose(overlap, overlaps[first, second], rtol=1e-12)


def test_tiny_boxes_far_apart(monkeypatch):
    monkeypatch.setattr(near_pairs, "FEW_COMPARISONS", -1)
    corners = np.array([[0.0, 0], [0, 0], [1e6, 1e6], [1e6, 1e6], [5e5, 1]])
    boxes = np.hstack([corners, corners + 1e-6])
    result = suppress(boxes, [0.9, 0.8, 0.7, 0.6, 0.5], 0.5)
    assert result.kept.tolist() == [0, 2, 4]


def test_pairs_beyond_one_chunk(monkeypatch):
    monkeypatch.setattr(near_pairs, "CHUNK", 10)
    random = np.random.default_rng(3)
    corner = random.uniform(0, 50, (80, 2))
    boxes, scores = np.hstack([corner, corner + 20]), random.random(80)
    kept, _ = suppress_slowly(boxes, scores, 0.3)
    assert suppress(boxes, scores, 0.3).kept.tolist() == kept


def test_chain_by_hand():
    # A drops B; C overlaps only B, which is gone, and so stays.
    boxes = [[0, 0, 10, 10], [4, 0, 14, 10], [8, 0, 18, 10]]
    result = suppress(boxes, [0.9, 0.8, 0.7], 0.3)
    assert result.kept.tolist() == [0, 2]
    assert result.suppressor.tolist() == [-1, 0, -1]
    assert result.overlap[1] == pytest.approx(60 / 140)


def test_what_is_no_box_does_not_let_the_others_through():
    """A network gone astray at one cell: its box is none, and duplicates elsewhere are still suppressed."""
    raw = np.full((1, 6, 1, 4), 4.0)
    raw[0, 2:4] = 0
    for astray in (np.nan, np.inf, -np.inf):
        raw[0, 0, 0, 1] = astray
        decoded = decode([raw], [[[60, 20]]], [8])
        assert len(decoded.boxes) == 4
        chosen = in_picture(decoded, letterbox(32, 8, 32), 32, 8, 0.2).candidates
        assert np.isfinite(chosen.boxes).all()
        assert len(chosen.after_suppression(0.2, 0.1).boxes) == 1
    with pytest.raises(ValueError, match="box 1 has a corner that is no finite number"):
        PictureDetections([[0, 0, 1, 1], [0, 0, np.nan, 1]], [0.5, 0.5], [0, 0])


@pytest.mark.parametrize(
    ("boxes", "scores", "limit"),
    [
        ([[0, 0, 1, 1]], [0.1, 0.2], 0.5),
        ([[0, 0, 1, 1]], [np.nan], 0.5),
        ([[0, 0, 1, 1]], [0.1], 1.5),
        ([[0, 0, 1, 1], [0, 0, 1, np.nan]], [0.1, 0.2], 0.5),
        ([[0, 0, 1, 1], [0, 0, np.inf, 1]], [0.1, 0.2], 0.5),
    ],
)
def test_unusable_input_is_refused(boxes, scores, limit):
    with pytest.raises(ValueError):
        suppress(boxes, scores, limit)
