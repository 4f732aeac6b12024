"""Which followed box is which labelled one: the best of all pairings."""

from itertools import permutations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.boxes import iou
from avocet.core.tracks.meeting import met


@given(st.integers(0, 10**6))
def test_boxes_that_meet_are_those_of_the_best_of_all_pairings(seed):
    generator = np.random.default_rng(seed)

    def some(many):
        corner = generator.integers(0, 12, (many, 2))
        return np.hstack([corner, corner + generator.integers(6, 12, (many, 2))]).astype(float)

    one, other = some(generator.integers(0, 5)), some(generator.integers(0, 5))
    kinds, labels = generator.integers(0, 2, len(one)), generator.integers(0, 2, len(other))
    overlap = (
        np.where(kinds[:, None] == labels[None], iou(one, other), 0) if len(one) and len(other) else None
    )
    pairs = met(one, kinds, other, labels)
    if overlap is None:
        assert not pairs
        return
    overlap = np.where(overlap >= 0.5, overlap, 0)
    padded = np.zeros((5, 5))
    padded[: len(one), : len(other)] = overlap
    best = max(sum(padded[row, column] for row, column in enumerate(way)) for way in permutations(range(5)))
    assert sum(overlap[row, column] for row, column in pairs) == pytest.approx(best)
    assert all(overlap[row, column] >= 0.5 for row, column in pairs)
