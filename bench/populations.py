"""Made populations of pictures and detectors, whose true figures are known because they can be drawn without end."""

from dataclasses import dataclass

import numpy as np

from avocet.core.score.measurement import MatchedPictures, sum_up
from avocet.core.score.precision import COCO_THRESHOLDS

OBJECTS = 5.0
"""Mean number of objects in a picture."""

WITHOUT_END = 60_000
"""Pictures from which the true figures are taken."""


TRAININGS = np.repeat([10.0, 20.0, 30.0, 40.0], 3)
"""Pictures of each training of a study: three with each number."""

CURVES = {
    "power, quick to level off": lambda n: 0.9 - 1.2 * n**-0.9,
    "power, slow": lambda n: 0.95 - n**-0.35,
    "logarithm": lambda n: np.minimum(1, 0.15 + 0.14 * np.log(n)),
    "S-shaped": lambda n: 0.85 / (1 + np.exp(-(np.log(n) - np.log(35)) / 0.5)),
    "S-shaped, beyond the pictures": lambda n: 0.85 / (1 + np.exp(-(np.log(n) - np.log(80)) / 0.4)),
    "exponential": lambda n: 0.85 - 0.7 * np.exp(-n / 20),
    "level": lambda n: 0.7 + 0 * n,
}
"""What a training with so many pictures reaches, on average."""


@dataclass(frozen=True)
class Population:
    """Pictures, and how a detector does on them.

    Attributes
    ----------
    shares : tuple of float
        Of the classes among the objects.
    found : float
        Chance that an object of a picture of middling difficulty is found.
    alarms : float
        False alarms in such a picture.
    closeness : float
        How close a found box lies, 0 (IoU 0.5) to 1.
    apart : float
        By how much scores of hits lie above those of false alarms, in their own spread.
    difficulty : float
        Spread of the pictures' difficulty: objects of one picture are found or missed together.
    """

    shares: tuple[float, ...]
    found: float
    alarms: float
    closeness: float
    apart: float
    difficulty: float = 0.8


POPULATIONS = {
    "one class, AP .75": Population((1.0,), 0.85, 1.2, 0.80, 1.2),
    "five classes, rarest 3 %": Population((0.40, 0.27, 0.20, 0.10, 0.03), 0.85, 1.2, 0.80, 1.2),
    "near-perfect, AP .99": Population((1.0,), 0.992, 0.02, 0.93, 3.0, 0.5),
    "poor, AP .26": Population((1.0,), 0.52, 4.5, 0.72, 0.6),
}


def draw(
    population: Population, pictures: int, generator: np.random.Generator, detectors: int = 1
) -> list[MatchedPictures]:
    """A set of pictures, matched with as many detectors that are alike and independent of one another."""
    hard = generator.normal(0, population.difficulty, pictures)
    owner = np.repeat(np.arange(pictures), generator.poisson(OBJECTS, pictures))
    classes = len(population.shares)
    kind = generator.choice(classes, len(owner), p=population.shares)
    made = []
    for _ in range(detectors):
        odds = np.log(population.found / (1 - population.found)) + hard[owner]
        seen = generator.random(len(owner)) < 1 / (1 + np.exp(-odds))
        close = generator.beta(population.closeness * 6, (1 - population.closeness) * 6, seen.sum())
        wrong = np.repeat(np.arange(pictures), generator.poisson(population.alarms * np.exp(-0.3 * hard)))
        scores = np.concatenate(
            [
                generator.normal(population.apart + 0.3 * hard[owner[seen]], 1),
                generator.normal(0, 1, len(wrong)),
            ]
        )
        kinds = np.concatenate([kind[seen], generator.choice(classes, len(wrong), p=population.shares)])
        places = np.concatenate([owner[seen], wrong])
        overlap = np.concatenate([0.5 + 0.5 * close, np.zeros(len(wrong))])
        order = np.lexsort((places, -scores, kinds))
        hit = overlap[order] >= COCO_THRESHOLDS[:, None, None]
        made.append(
            MatchedPictures(
                COCO_THRESHOLDS, np.arange(classes), ("all",), pictures, kinds[order], places[order],
                np.zeros(len(order), np.int64), scores[order], hit, np.zeros_like(hit),
                kind, owner, np.ones((1, len(owner)), bool),
            )
        )  # fmt: skip
    return made


def true_precision(population: Population) -> np.ndarray:
    """(T, K) average precision of a set of pictures without end."""
    matched = draw(population, WITHOUT_END, np.random.default_rng(99))[0]
    return sum_up(matched).average_precision[:, :, 0]
