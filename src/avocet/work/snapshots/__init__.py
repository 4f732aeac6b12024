"""Immutable copies of labels and splits: made, compared, taken away."""
