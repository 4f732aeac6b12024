import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from avocet.core.raw.anchors import cluster_anchors, mean_best_iou
from tests.conftest import examples

sizes_strategy = arrays(np.float64, st.tuples(st.integers(1, 40), st.just(2)), elements=st.floats(1, 300))


def test_two_kinds_of_box_by_hand():
    sizes = [[10, 10], [12, 10], [11, 10], [100, 50], [102, 50]]
    anchors = cluster_anchors(sizes, 2, np.random.default_rng(0))
    np.testing.assert_allclose(anchors, [[11, 10], [101, 50]])


@examples(40)
@given(sizes_strategy, st.integers(1, 9), st.integers(0, 5))
def test_anchors_are_sane_and_reproducible(sizes, count, seed):
    anchors = cluster_anchors(sizes, count, np.random.default_rng(seed))
    again = cluster_anchors(sizes, count, np.random.default_rng(seed))
    np.testing.assert_array_equal(anchors, again)
    assert anchors.shape == (count, 2)
    assert (anchors > 0).all() and np.isfinite(anchors).all()
    assert (np.diff(anchors.prod(axis=1)) >= -1e-9).all()


@pytest.mark.parametrize("seed", range(8))
def test_planted_clusters_are_found(seed):
    random = np.random.default_rng(seed)
    centres = np.array([[12, 12], [30, 60], [90, 30], [150, 160]])
    members = np.concatenate([centre * random.uniform(0.94, 1.06, (50, 2)) for centre in centres])
    anchors = cluster_anchors(random.permutation(members), 4, np.random.default_rng(seed))
    np.testing.assert_allclose(anchors, [members[50 * i : 50 * i + 50].mean(axis=0) for i in (0, 1, 2, 3)])


@pytest.mark.parametrize("seed", range(8))
def test_every_anchor_is_the_mean_of_the_boxes_it_fits_best(seed):
    random = np.random.default_rng(seed)
    sizes = np.exp(random.normal(3.5, 0.7, (200, 2)))
    anchors = cluster_anchors(sizes, 5, np.random.default_rng(seed))
    members = [[] for _ in anchors]
    for width, height in sizes:
        fits = [
            min(width, w) * min(height, h) / (width * height + w * h - min(width, w) * min(height, h))
            for w, h in anchors
        ]
        members[int(np.argmax(fits))].append((width, height))
    np.testing.assert_allclose(anchors, [np.mean(group, axis=0) for group in members])
    assert mean_best_iou(sizes, anchors) > mean_best_iou(sizes, sizes.mean(axis=0, keepdims=True))


@pytest.mark.parametrize(("sizes", "count"), [([], 3), ([[0, 5]], 1), ([[1, 1]], 0), ([[np.nan, 1]], 1)])
def test_unusable_sizes_are_refused(sizes, count):
    with pytest.raises(ValueError):
        cluster_anchors(sizes, count, np.random.default_rng(0))
