import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy.optimize import minimize

from avocet.core.boxes import co_centred_iou
from avocet.core.raw.anchors import cluster_anchors, mean_best_iou
from tests.conftest import examples

sizes_strategy = arrays(np.float64, st.tuples(st.integers(1, 40), st.just(2)), elements=st.floats(1, 300))


def test_two_kinds_of_box_by_hand():
    sizes = [[10, 10], [12, 10], [11, 10], [100, 50], [102, 50], [102, 50]]
    anchors = cluster_anchors(sizes, 2, np.random.default_rng(0))
    np.testing.assert_allclose(anchors, [[11, 10], [102, 50]])


@pytest.mark.slow
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
    means = [members[50 * i : 50 * i + 50].mean(axis=0) for i in (0, 1, 2, 3)]
    np.testing.assert_allclose(anchors, means, rtol=0.03)


@pytest.mark.parametrize("seed", range(8))
def test_no_anchor_serves_its_boxes_better_a_little_aside(seed):
    random = np.random.default_rng(seed)
    sizes = np.exp(random.normal(3.5, 0.7, (200, 2)))
    anchors = cluster_anchors(sizes, 5, np.random.default_rng(seed))
    reached = mean_best_iou(sizes, anchors)
    for number in range(5):
        for factors in ((1.02, 1), (1 / 1.02, 1), (1, 1.02), (1, 1 / 1.02)):
            moved = anchors.copy()
            moved[number] *= factors
            assert mean_best_iou(sizes, moved) < reached + 1e-4
    nearest = co_centred_iou(sizes, anchors).argmax(axis=1)
    means = np.stack([sizes[nearest == number].mean(axis=0) for number in range(5)])
    assert reached > mean_best_iou(sizes, means)


@pytest.mark.slow
def test_wide_sets_are_fitted_as_well_as_by_search():
    """Sizes from tiny to huge: against the best of many searches over all anchors at once."""
    reached, searched = [], []
    for seed in range(6):
        random = np.random.default_rng(seed)
        sizes = np.exp(random.normal(3.5, 0.9, (40, 2)))
        reached.append(mean_best_iou(sizes, cluster_anchors(sizes, 2, np.random.default_rng(0))))
        found = [
            minimize(
                lambda v, sizes=sizes: -mean_best_iou(sizes, np.exp(v).reshape(-1, 2)),
                np.log(sizes[random.choice(40, 2, replace=False)]).ravel(),
                method="Nelder-Mead",
            ).fun
            for _ in range(8)
        ]
        searched.append(-min(found))
    assert np.mean(reached) > np.mean(searched) - 0.003, (reached, searched)


@pytest.mark.parametrize("seed", range(10))
def test_as_many_anchors_as_boxes_fit_exactly(seed):
    sizes = np.exp(np.random.default_rng(seed).normal(3.5, 1, (2, 2)))
    anchors = cluster_anchors(sizes, 2, np.random.default_rng(seed))
    assert mean_best_iou(sizes, anchors) == pytest.approx(1, abs=1e-12)


@pytest.mark.parametrize(("sizes", "count"), [([], 3), ([[0, 5]], 1), ([[1, 1]], 0), ([[np.nan, 1]], 1)])
def test_unusable_sizes_are_refused(sizes, count):
    with pytest.raises(ValueError):
        cluster_anchors(sizes, count, np.random.default_rng(0))
