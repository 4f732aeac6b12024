"""Splitting pictures into training, validation and test parts."""

from collections.abc import Iterable, Sequence
from itertools import chain

import numpy as np
from numpy.typing import ArrayLike, NDArray

RATIOS = (60, 20, 20)
"""What training, validation and test get where nobody says otherwise, in per cent: what is measured on a part is
as sure as its pictures are many, so that the two parts that are measured on get as much as each other."""


def split_by_ratio(
    groups: Sequence[str],
    ratios: ArrayLike,
    generator: np.random.Generator,
    labels: Sequence[Iterable[int]] | None = None,
) -> NDArray[np.int64]:
    """Assign pictures to parts by ratio, keeping each group (a clip) in one part.

    Groups are taken largest first, equal ones in random order; each goes to the part that is
    furthest below its share. Where labels are given, shares of each label count as much as shares
    of pictures, rare labels first, after iterative stratification (Sechidis and others, 2011). A
    part with a ratio of 0 stays empty; every other part gets at least one group as long as there
    are enough.

    Parameters
    ----------
    groups : sequence of str
        The group of each picture; a picture on its own has a group of its own.
    ratios : (P,) array_like
        Relative sizes of the parts, none negative, at least one above 0.
    generator : numpy.random.Generator
        Source of the random order; the same state gives the same split.
    labels : sequence of iterables of int, optional
        The labels of each picture's boxes, to be kept in proportion.

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
    share = _shares(ratios)
    names, index, counts = np.unique(np.asarray(groups, dtype=str), return_inverse=True, return_counts=True)
    content = _content(index, len(names), labels)
    rarest = (content[:, 1:] / np.maximum(content[:, 1:].sum(axis=0), 1)).max(axis=1, initial=0.0)
    order = generator.permutation(len(names))
    order = order[np.lexsort((-rarest[order], -counts[order]))]
    # Of each column: pictures, then every label.
    whole = np.maximum(content.sum(axis=0), 1)
    held = np.zeros((len(share), content.shape[1]))
    part_of = np.zeros(len(names), dtype=np.int64)
    remaining = len(names)
    for name in order:
        empty = (held[:, 0] == 0) & (share > 0)
        # The last groups go to parts that would otherwise get none.
        open_parts = empty if empty.sum() >= remaining else share > 0
        lacking = share[:, None] - held / whole
        weight = content[name] / whole
        part = int(np.where(open_parts, lacking @ (weight / weight.sum()), -np.inf).argmax())
        part_of[name] = part
        held[part] += content[name]
        remaining -= 1
    return part_of[index] if len(groups) else np.zeros(0, dtype=np.int64)


def cut_by_ratio(count: int, ratios: ArrayLike) -> NDArray[np.int64]:
    """Cut a sequence, such as the frames of a clip, into consecutive stretches, one for each part.

    Neighbours look alike, so that a split of single frames would measure a detector on what it has all but seen; of
    stretches only the frames at their ends have such a neighbour.

    Parameters
    ----------
    count : int
        Length of the sequence.
    ratios : (P,) array_like
        Relative lengths, none negative, at least one above 0. A part with a ratio of 0 gets nothing; every other gets
        something where the sequence is long enough. Lengths are rounded by largest remainder; a part that would get
        nothing takes one place from the part that is furthest above its share.

    Returns
    -------
    (count,) ndarray of int64
        The part of each place, 0 to P − 1, never falling.

    Raises
    ------
    ValueError
        If the ratios are negative, not finite, or all 0.

    Examples
    --------
    >>> cut_by_ratio(10, (60, 20, 20)).tolist(), cut_by_ratio(3, (98, 1, 1)).tolist()
    ([0, 0, 0, 0, 0, 0, 1, 1, 2, 2], [0, 1, 2])
    """
    share = _shares(ratios)
    wanted = np.flatnonzero(share)
    meant = share[wanted] * count
    lengths = np.floor(meant + 1e-9).astype(np.int64)
    # Rounded, so that of parts that lack as much as each other the first one gets the place.
    lacking = np.argsort(-np.round(meant - lengths, 9), kind="stable")[: count - int(lengths.sum())]
    lengths[lacking] += 1
    if count >= len(wanted):
        for empty in np.flatnonzero(lengths == 0):
            above = np.where(lengths > 1, np.round(lengths - meant, 9), -np.inf)
            lengths[len(above) - 1 - above[::-1].argmax()] -= 1
            lengths[empty] = 1
    parts: NDArray[np.int64] = np.repeat(wanted, lengths)
    return parts


def _shares(ratios: ArrayLike) -> NDArray[np.float64]:
    """Ratios that add up to 1."""
    shares = np.array(ratios, dtype=np.float64).reshape(-1)
    if not np.isfinite(shares).all() or (shares < 0).any() or shares.sum() <= 0:
        raise ValueError(f"split ratios must be 0 or more and not all 0, not {shares.tolist()}")
    shares /= shares.sum()
    return shares


def _content(
    index: NDArray[np.int64], groups: int, labels: Sequence[Iterable[int]] | None
) -> NDArray[np.float64]:
    """Pictures of each group, then its boxes of each label, as (groups, 1 + labels)."""
    pictures = np.bincount(index, minlength=groups).astype(np.float64)[:, None]
    if labels is None:
        return pictures
    held = [list(each) for each in labels]
    rows = np.repeat(index, [len(each) for each in held])
    if not len(rows):
        return pictures
    columns = np.fromiter(chain.from_iterable(held), dtype=np.int64, count=len(rows))
    kinds, place = np.unique(columns, return_inverse=True)
    boxes = np.zeros((groups, len(kinds)))
    np.add.at(boxes, (rows, place), 1)
    return np.concatenate([pictures, boxes], axis=1)


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
    covered = set().union(*(each for each, at in zip(held, assigned.tolist(), strict=True) if at == part))
    for label in sorted(set().union(*held)):
        if label in covered:
            continue
        having = np.array([label in each for each in held])
        for name in sorted(set(names[having]), key=lambda name: (int((names == name).sum()), name)):
            moving = names == name
            losing = assigned[moving][0]
            if ((assigned == losing) & ~moving).any():
                assigned[moving] = part
                covered.update(*(held[place] for place in np.flatnonzero(moving)))
                break
    return assigned
