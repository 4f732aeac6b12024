"""Asking a network: pictures in, boxes in original pixels out."""

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.raw.candidates import Candidates, in_picture
from avocet.core.raw.decode import decode
from avocet.core.raw.letterbox import Letterbox, letterbox
from avocet.core.score.calibration import ScoreMap
from avocet.detector.engines.engine import Engine
from avocet.detector.engines.opening import open_engine
from avocet.detector.model.card import ModelCard
from avocet.detector.pictures.resizing import lay_in


@lru_cache(maxsize=64)
def _before(scores: ScoreMap, minimum_score: float) -> float:
    """The score that is mapped to the minimum one: the same for every picture, and found by halving again and again."""
    return float(scores.back(minimum_score))


def candidates_of(
    raw: Sequence[NDArray[np.float32]],
    card: ModelCard,
    box: Letterbox,
    width: int,
    height: int,
    minimum_score: float,
) -> Candidates:
    """Decode the raw outputs of one picture and bring them back to its pixels.

    Parameters
    ----------
    raw : sequence of (A, 5 + C, H, W) ndarray
    card : ModelCard
    box : Letterbox
        How the picture lay in the input.
    width, height : int
        Size of the original picture in pixels.
    minimum_score : float
        After the card's calibration.

    Returns
    -------
    Candidates
    """
    scores = card.score_map
    least = minimum_score if scores is None else _before(scores, minimum_score)
    decoded = decode(raw, card.anchors, card.strides, card.reach, minimum_objectness=least)
    return in_picture(decoded, box, width, height, minimum_score, calibrated=scores).candidates


class Predictor:
    """A trained network ready for pictures.

    Parameters
    ----------
    card : ModelCard
    engine : Engine
        What computes the network.
    """

    def __init__(self, card: ModelCard, engine: Engine) -> None:
        self.card, self.engine = card, engine
        # It has no thread before it is given a picture.
        self._threads = ThreadPoolExecutor(engine.side_by_side, "network")

    @property
    def classes(self) -> list[str]:
        return self.card.classes

    @property
    def about(self) -> dict[str, Any]:
        """What results say of the model they come from."""
        card = self.card
        return {
            "size": card.size,
            "side": card.side,
            "classes": card.classes,
            "snapshot": card.snapshot,
            "epoch": card.metrics.get("epoch"),
            "minimum_score": card.minimum_score,
            "minimum_scores": card.minimum_scores,
            "calibration": card.calibration,
            "engine": self.engine.name,
        } | ({} if card.white is None else {"white": card.white})

    @classmethod
    def from_bundle(cls, path: Path) -> "Predictor":
        """Read a model bundle. Raises `InputError` if it is not one."""
        return cls(*open_engine(path))

    def candidates(self, pictures: Sequence[NDArray[np.uint8]], minimum_score: float) -> list[Candidates]:
        """Candidate boxes of pictures of any size, each in its own pixels.

        Parameters
        ----------
        pictures : sequence of (H, W, 3) ndarray of uint8
        minimum_score : float

        Returns
        -------
        list of Candidates
            One a picture, in order.
        """
        # Fewer would leave threads without a picture: then all work on all of them.
        if 1 < self.engine.side_by_side <= len(pictures):
            return list(self._threads.map(lambda each: self._beside(each, minimum_score), pictures))
        return self._together(pictures, minimum_score)

    def _beside(self, picture: NDArray[np.uint8], minimum_score: float) -> Candidates:
        """Candidates of one of several pictures, each laid in, computed and decoded by a thread of its own."""
        levels = self.engine.raw_beside(self.input_of(picture)[None])
        return self._candidates(levels, 0, picture, minimum_score)

    def _together(self, pictures: Sequence[NDArray[np.uint8]], minimum_score: float) -> list[Candidates]:
        """Candidates of pictures that the network is given together, as far as their inputs have one shape."""
        inputs = [self.input_of(each) for each in pictures]
        by_shape: dict[tuple[int, ...], list[int]] = {}
        for index, laid in enumerate(inputs):
            by_shape.setdefault(laid.shape, []).append(index)
        found: dict[int, Candidates] = {}
        for group in by_shape.values():
            levels = self.raw(np.stack([inputs[index] for index in group]))
            for row, index in enumerate(group):
                found[index] = self._candidates(levels, row, pictures[index], minimum_score)
        return [found[index] for index in range(len(pictures))]

    def _candidates(
        self,
        levels: Sequence[NDArray[np.float32]],
        row: int,
        picture: NDArray[np.uint8],
        minimum_score: float,
    ) -> Candidates:
        height, width = picture.shape[:2]
        box = letterbox(width, height, self.card.side)
        return candidates_of([level[row] for level in levels], self.card, box, width, height, minimum_score)

    def raw_of(self, picture: NDArray[np.uint8]) -> list[NDArray[np.float32]]:
        """Raw outputs, level by level, of one picture laid into the input."""
        return [level[0] for level in self.raw(self.input_of(picture)[None])]

    def input_of(self, picture: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """One picture laid into the input, (H, W, 3) uint8."""
        box = letterbox(picture.shape[1], picture.shape[0], self.card.side)
        return lay_in(picture, box, self.card.padding)

    def raw(self, inputs: NDArray[np.uint8]) -> list[NDArray[np.float32]]:
        """Raw outputs, level by level, of (B, H, W, 3) uint8 inputs."""
        return self.engine.raw(inputs)
