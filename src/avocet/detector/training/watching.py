"""Watch pictures: what a training finds on the same held-out pictures, epoch after epoch."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from avocet.core.detections import PictureDetections
from avocet.files import write_bytes

WATCHED = 12
"""Watch pictures of a run, unless chosen by hand."""

LEAST_SCORE, MOST_BOXES = 0.05, 100
"""What is kept of each picture: boxes above this score, and the best of them."""


def draw_watched(pictures: int, seed: int, count: int = WATCHED) -> list[int]:
    """Which of the validation pictures are watched: drawn by seed, in their own order.

    Examples
    --------
    >>> draw_watched(3, 0), len(draw_watched(50, 0))
    ([0, 1, 2], 12)
    """
    chosen = np.random.default_rng([seed, 12]).permutation(pictures)[:count]
    return sorted(int(each) for each in chosen)


def keep_watched(
    folder: Path, epoch: int, watched: Sequence[int], found: Sequence[PictureDetections]
) -> None:
    """Keep what one epoch finds on the watch pictures.

    Parameters
    ----------
    folder : Path
        Of the run; the file goes into ``watch`` below it.
    epoch : int
    watched : sequence of int
        Indices into ``found``.
    found : sequence of PictureDetections
        On all validation pictures.
    """
    pictures = []
    for index in watched:
        each = found[index]
        best = np.argsort(-each.scores, kind="stable")[:MOST_BOXES]
        best = best[each.scores[best] >= LEAST_SCORE]
        pictures.append(
            {
                "boxes": each.boxes[best].round(2).tolist(),
                "scores": each.scores[best].round(4).tolist(),
                "classes": each.classes[best].tolist(),
            }
        )
    path = folder / "watch" / f"{epoch:05}.json"
    path.parent.mkdir(parents=True, exist_ok=True)
    write_bytes(path, json.dumps(pictures).encode())


def watched_epochs(folder: Path, last: int) -> list[int]:
    """Epochs up to ``last`` of which predictions were kept."""
    found = sorted(int(path.stem) for path in (folder / "watch").glob("*.json"))
    return [epoch for epoch in found if epoch <= last]


def read_watched(folder: Path, epoch: int) -> list[dict[str, list[Any]]] | None:
    """What an epoch found on each watch picture, or None where nothing was kept."""
    path = folder / "watch" / f"{epoch:05}.json"
    if not path.is_file():
        return None
    kept: list[dict[str, list[Any]]] = json.loads(path.read_text())
    return kept
