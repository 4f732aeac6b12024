"""Learns the weights with which Tighten weighs what speaks for each place of an edge.

    python scripts/edge_weights.py CACHE [--rounds N] [--learn PART]

From photographs (`photographs.py`, kept in CACHE), rendered shapes and goods of the demo's belt, each with its exact
box: drawn exactly, loosely (up to 15 % of the side too large on each side) and a little off (up to 6 %). Prints the
weights, to be put into `avocet.core.labels.tighten`, and what comes of them on the photographs of the other part.
"""

import argparse
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from photographs import fetch, scenes
from scipy.optimize import minimize
from shape_scenes import render_scene

from avocet.core.boxes import iou
from avocet.core.labels import tighten as tightening
from avocet.core.labels.edges import FACTS, EdgePlaces, edge_places
from avocet.demo.belt import render_still

Scene = tuple[NDArray[np.uint8], NDArray[np.float64]]
Draw = Callable[[Scene, np.random.Generator], NDArray[np.float64]]

NEAR = 0.8
"""Pixels of the working size by which the true place is known."""

HELD = 1.0
"""How strongly weights are held near 0, each fact measured in its own spread."""


def drawn(scene: Scene, shares: NDArray[np.float64]) -> NDArray[np.float64]:
    """A box as it was drawn: each edge outwards by a share of the side."""
    pixels, box = scene
    sides = np.tile(box[2:] - box[:2], 2)
    height, width = pixels.shape[:2]
    return np.clip(box + shares * sides * [-1, -1, 1, 1], 0, [width, height] * 2)


def exactly(scene: Scene, random: np.random.Generator) -> NDArray[np.float64]:
    return scene[1]


def loosely(scene: Scene, random: np.random.Generator) -> NDArray[np.float64]:
    return drawn(scene, random.uniform(0, 0.15, 4))


def roughly(scene: Scene, random: np.random.Generator) -> NDArray[np.float64]:
    return drawn(scene, random.uniform(-0.06, 0.06, 4))


WAYS: dict[str, Draw] = {"exact": exactly, "loose": loosely, "a little off": roughly}


def goods(count: int) -> Iterator[Scene]:
    """Goods of the demo's belt."""
    for seed in range(5000, 5000 + count):
        frame = render_still(seed)
        yield from ((np.asarray(frame.pixels), box) for box in frame.boxes)


def shapes(count: int) -> Iterator[Scene]:
    """Shapes that overlap no other, on patterned grounds."""
    for seed in range(count):
        pixels, boxes, _ = render_scene(2_000_000 + seed, 320)
        for place, box in enumerate(boxes):
            alone = place == len(boxes) - 1 or iou([box], np.delete(boxes, place, axis=0)).max() == 0
            if alone and (box[2:] - box[:2]).min() > 16 and box.min() > 1 and box.max() < 319:
                yield pixels, box


def crossings(scene: Scene, box: NDArray[np.float64]) -> Iterator[tuple[EdgePlaces, float]]:
    """What speaks for the places of the four edges, and where the true one is."""
    crop, local, step, corner = tightening.crop_around(scene[0], box)
    likely, mask = tightening.object_and_ground(crop, local)
    for edge in range(4):
        found = edge_places(crop, likely, mask, local, edge, tightening.REACH)
        true = (scene[1][edge] - corner[edge]) / step
        yield found, true if edge < 2 else crop.shape[1 - edge % 2] - true


def learn(some: Iterable[tuple[EdgePlaces, float]]) -> NDArray[np.float64]:
    """Weights of the facts: a conditional logit over places, near the true one all alike."""
    facts, shares = [], []
    for found, true in some:
        share = np.exp(-0.5 * ((found.places - true) / NEAR) ** 2)
        if share.sum() > 1e-3:
            facts.append(found.facts)
            shares.append(share / share.sum())
    every, wanted = np.concatenate(facts), np.concatenate(shares)
    middle, spread = every.mean(axis=0), every.std(axis=0) + 1e-6
    scaled = (every - middle) / spread
    starts = np.cumsum([0, *(len(each) for each in facts[:-1])])
    owner = np.repeat(np.arange(len(facts)), [len(each) for each in facts])

    def loss(weights: NDArray[np.float64]) -> tuple[float, NDArray[np.float64]]:
        logits = scaled @ weights
        logits -= np.maximum.reduceat(logits, starts)[owner]
        sums = np.add.reduceat(np.exp(logits), starts)[owner]
        off = np.exp(logits) / sums - wanted
        held = HELD / 2 * float((weights**2).sum())
        return -float((wanted * (logits - np.log(sums))).sum()) + held, scaled.T @ off + HELD * weights

    found = minimize(loss, np.zeros(len(FACTS)), jac=True, method="L-BFGS-B")
    return np.asarray(found.x / spread)


def measured(some: Iterable[Scene]) -> str:
    """What tightening makes of boxes drawn in each way."""
    random, overlaps = np.random.default_rng(3), {name: list[tuple[float, float]]() for name in WAYS}
    for scene in some:
        for name, draw in WAYS.items():
            box = draw(scene, random)
            fitted = tightening.tighten(scene[0], box)
            overlaps[name].append((iou([box], [scene[1]])[0, 0], iou([fitted], [scene[1]])[0, 0]))
    lines = []
    for name, pairs in overlaps.items():
        before, after = np.array(pairs).T
        lines.append(
            f"{name}: IoU {before.mean():.3f} to {after.mean():.3f}, median {np.median(after):.3f}, 0.9 or more "
            f"{np.mean(after >= 0.9):.3f}, worse {np.mean(after < before - 0.005):.3f}, by more than 0.1 "
            f"{np.sum(after < before - 0.1)} of {len(after)}"
        )
    return "\n".join(lines)


def main() -> None:
    """Learn, print, measure."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("cache", type=Path)
    parser.add_argument("--rounds", type=int, default=2)
    parser.add_argument("--learn", type=int, default=0, choices=(0, 1), help="The part that is learnt from.")
    given = parser.parse_args()
    fetch(given.cache)
    random = np.random.default_rng(1)
    some: list[tuple[EdgePlaces, float]] = []
    for made in (scenes(given.cache, given.learn, given.rounds, 1), shapes(60), goods(12)):
        for scene in made:
            for draw in WAYS.values():
                some += crossings(scene, draw(scene, random))
    weights = learn(some)
    for name, weight in zip(FACTS, weights, strict=True):
        print(f'    "{name}": {weight:.3f},')
    tightening.WEIGHTS.update(zip(FACTS, weights.tolist(), strict=True))
    for part in (given.learn, 1 - given.learn):
        print(f"Photographs of part {part}:")
        print(measured(scenes(given.cache, part, 1, 9)))
    print("Goods:")
    print(measured(goods(6)))


if __name__ == "__main__":
    main()
