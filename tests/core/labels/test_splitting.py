import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.labels.splitting import cover_labels, cut_by_ratio, split_by_ratio

groups_strategy = st.lists(st.sampled_from("abcdefghijklmnop"), max_size=60)


@given(groups_strategy, st.integers(0, 4))
def test_groups_stay_together_and_the_seed_decides(groups, seed):
    parts = split_by_ratio(groups, [0.7, 0.2, 0.1], np.random.default_rng(seed))
    again = split_by_ratio(groups, [0.7, 0.2, 0.1], np.random.default_rng(seed))
    assert parts.tolist() == again.tolist()
    for name in set(groups):
        assert len({part for part, group in zip(parts, groups, strict=True) if group == name}) == 1
    if len(set(groups)) >= 3:
        assert set(parts.tolist()) == {0, 1, 2}


@given(st.integers(10, 300), st.integers(0, 3))
def test_single_pictures_follow_the_ratio(count, seed):
    parts = split_by_ratio([str(i) for i in range(count)], [0.8, 0.2, 0], np.random.default_rng(seed))
    assert abs((parts == 0).sum() - 0.8 * count) <= 1
    assert not (parts == 2).any()


@pytest.mark.parametrize("ratios", [[0, 0, 0], [-1, 2, 0], [float("nan"), 1, 0]])
def test_impossible_ratios_are_refused(ratios):
    with pytest.raises(ValueError):
        split_by_ratio(["a"], ratios, np.random.default_rng(0))
    with pytest.raises(ValueError):
        cut_by_ratio(3, ratios)


@pytest.mark.parametrize(
    ("count", "ratios", "lengths"),
    [
        (8, (70, 10, 20), [6, 1, 1]),
        (4, (50, 10, 40), [2, 1, 1]),
        (4, (60, 10, 30), [2, 1, 1]),
        (4, (40, 20, 40), [2, 1, 1]),
        (4, (45, 10, 45), [2, 1, 1]),
        (3, (98, 1, 1), [1, 1, 1]),
        (5, (96, 1, 1, 1, 1), [1, 1, 1, 1, 1]),
        (8, (45, 10, 45), [4, 1, 3]),
        (8, (40, 20, 40), [3, 2, 3]),
        (10, (0, 50, 50), [0, 5, 5]),
        (2, (60, 20, 20), [1, 1, 0]),
    ],
)
def test_a_short_sequence_leaves_no_part_empty(count, ratios, lengths):
    assert np.bincount(cut_by_ratio(count, ratios), minlength=len(ratios)).tolist() == lengths


@given(st.integers(0, 200), st.lists(st.integers(0, 100), min_size=1, max_size=5).filter(any))
def test_a_sequence_is_cut_into_stretches_as_the_ratios_say(count, ratios):
    parts = cut_by_ratio(count, ratios)
    assert parts.shape == (count,) and (np.diff(parts) >= 0).all()
    wanted = [part for part, ratio in enumerate(ratios) if ratio]
    assert set(parts.tolist()) <= set(wanted)
    if count >= len(wanted):
        assert set(parts.tolist()) == set(wanted)
        for part in wanted:
            # Half a place is rounded at either end, and one is moved for each part that would get nothing.
            meant = count * ratios[part] / sum(ratios)
            assert abs((parts == part).sum() - meant) <= len(wanted)


@given(
    st.lists(st.tuples(st.sampled_from("abcdefgh"), st.sets(st.integers(0, 4), max_size=3)), max_size=25),
    st.integers(0, 3),
)
def test_every_label_is_learnt_where_that_empties_no_part(pictures, seed):
    groups, labels = [p[0] for p in pictures], [p[1] for p in pictures]
    before = split_by_ratio(groups, [0.6, 0.3, 0.1], np.random.default_rng(seed))
    after = cover_labels(before, groups, labels)
    assert set(before.tolist()) - {0} == set(after.tolist()) - {0}
    for name in set(groups):
        assert len({part for part, group in zip(after, groups, strict=True) if group == name}) == 1
    for label in set().union(*labels):
        if not any(label in own for own, part in zip(labels, after, strict=True) if part == 0):
            # Only where each of its groups is all that its part has.
            for group in {g for g, own in zip(groups, labels, strict=True) if label in own}:
                part = after[groups.index(group)]
                assert {g for g, p in zip(groups, after, strict=True) if p == part} == {group}
    moved = [i for i in range(len(groups)) if before[i] != after[i]]
    assert all(after[i] == 0 for i in moved)


@given(st.integers(0, 5))
def test_classes_are_kept_in_proportion(seed):
    """Sixty pictures, a common, a rarer and a rare class: each part has its share of each."""
    labels = [[0, 0] + [1] * (i % 3 == 0) + [2] * (i % 10 == 0) for i in range(60)]
    groups = [f"p{i}" for i in range(60)]
    parts = split_by_ratio(groups, [0.5, 0.3, 0.2], np.random.default_rng(seed), labels)
    for label, total in ((0, 120), (1, 20), (2, 6)):
        held = [
            sum(own.count(label) for own, part in zip(labels, parts, strict=True) if part == p)
            for p in range(3)
        ]
        assert np.allclose(np.array(held) / total, [0.5, 0.3, 0.2], atol=0.17)
    assert np.allclose(np.bincount(parts, minlength=3) / 60, [0.5, 0.3, 0.2], atol=0.06)
