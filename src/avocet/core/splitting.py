"""Splitting pictures into training, validation and test parts."""

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray


def split_by_ratio(
    groups: Sequence[str], ratios: ArrayLike, generator: np.random.Generator
) -> NDArray[np.int64]:
    """Assign pictures to parts by ratio, keeping each group (a clip) in one part.

    Groups are taken largest first, equal ones in random order; each goes to the part that is
    furthest below its share. A part with a ratio of 0 stays empty; every other part gets at
    least one group as long as there are enough.

    Parameters
    ----------
    groups : sequence of str
        The group of each picture; a picture on its own has a group of its own.
    ratios : (P,) array_like
        Relative sizes of the parts, none negative, at least one above 0.
    generator : numpy.random.Generator
        Source of the random order; the same state gives the same split.

    Returns
    -------
    (N,) ndarray of int64
        The part of each picture, 0 to P − 1.

    Raises
    ------
    ValueError
        If the ratios are negative, not finite, or all 0.

    Examples
    --------
    >>> split_by_ratio(["a", "clip", "clip", "b"], [0.5, 0.5], np.random.default_rng(1)).tolist()
    [1, 0, 0, 1]
    """
    shares = np.asarray(ratios, dtype=np.float64).reshape(-1)
    if not np.isfinite(shares).all() or (shares < 0).any() or shares.sum() <= 0:
        raise ValueError(f"split ratios must be 0 or more and not all 0, not {shares.tolist()}")
    wanted = shares / shares.sum() * len(groups)
    names, index, counts = np.unique(np.asarray(groups, dtype=str), return_inverse=True, return_counts=True)
    order = generator.permutation(len(names))
    order = order[np.argsort(-counts[order], kind="stable")]
    held = np.zeros(len(shares))
    part_of = np.zeros(len(names), dtype=np.int64)
    remaining = len(names)
    for name in order:
        empty = (held == 0) & (shares > 0)
        # The last groups go to parts that would otherwise get none.
        open_parts = empty if empty.sum() >= remaining else shares > 0
        part = int(np.where(open_parts, wanted - held, -np.inf).argmax())
        part_of[name] = part
        held[part] += counts[name]
        remaining -= 1
    return part_of[index] if len(groups) else np.zeros(0, dtype=np.int64)


def cover_labels(
    parts: ArrayLike, groups: Sequence[str], labels: Sequence[Iterable[int]], part: int = 0
) -> NDArray[np.int64]:
    """Move groups into a part until every label occurs there, as far as no other part runs empty.

    A detector can only learn what the training part shows; a rare class must not fall into the
    validation part alone.

    Parameters
    ----------
    parts : (N,) array_like of int
        The part of each picture, as from `split_by_ratio`.
    groups : sequence of str
        The group of each picture; groups are moved whole.
    labels : sequence of iterables of int
        The labels that occur in each picture.
    part : int
        The part that shall have every label.

    Returns
    -------
    (N,) ndarray of int64

    Examples
    --------
    >>> cover_labels([0, 1, 1], ["a", "b", "c"], [{1}, {1}, {2}]).tolist()
    [0, 1, 0]
    """
    assigned = np.array(parts, dtype=np.int64)
    names = np.asarray(groups, dtype=str)
    held = [set(each) for each in labels]
    for label in sorted(set().union(*held)):
        having = np.array([label in each for each in held])
        if (having & (assigned == part)).any():
            continue
        for name in sorted(set(names[having]), key=lambda name: (int((names == name).sum()), name)):
            moving = names == name
            losing = assigned[moving][0]
            if ((assigned == losing) & ~moving).any():
                assigned[moving] = part
                break
    return assigned
