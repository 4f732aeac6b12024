"""Whether statements about uncertainty are true: intervals that hold, verdicts that are right, on made populations."""

import sys

import numpy as np
from threadpoolctl import threadpool_limits

from avocet.core.score.chance.paired import difference
from avocet.core.score.chance.resampling import resample
from avocet.core.score.chance.swapping import swap
from bench.populations import POPULATIONS, Population, draw, true_precision

SETS, SIZES, RESAMPLES = 200, (20, 50, 200), 400


def main(sets: int = SETS) -> None:
    """Print how often intervals hold the true figure, and how often chance is called a difference."""
    with threadpool_limits(1):
        print(f"{sets} sets of pictures each, {RESAMPLES} resamples; mAP at 0.5 / at 0.50:0.95")
        print(
            "  of intervals at 95 %, those that hold the true figure (wanted: .90 to .98), and the widest and"
        )
        print(
            "  narrowest; of two detectors that are alike, verdicts of more than chance (wanted: .07 at most)"
        )
        for name, population in POPULATIONS.items():
            for pictures in SIZES:
                print(f"  {name}, {pictures} pictures: {measured(population, pictures, sets)}", flush=True)


def measured(population: Population, pictures: int, sets: int) -> str:
    """One line of the table."""
    generator, truth = np.random.default_rng(5), true_precision(population)
    held, widths, verdicts, classes = [], [], [], []
    for _ in range(sets):
        both = draw(population, pictures, generator, detectors=2)
        seed = int(generator.integers(1 << 30))
        one, two = (resample(each, np.random.default_rng(seed), RESAMPLES) for each in both)
        known = ~np.isnan(one.measured[0])
        held.append([_holds(one.interval(level), truth[part][:, known].mean()) for level, part in FIGURES])
        widths.append([np.subtract(*one.interval(level)[::-1]) for level, _ in FIGURES])
        classes += [
            _holds(interval, truth[0, kind])
            for kind in np.flatnonzero(known)
            if not np.isnan((interval := one.interval(0, int(kind)))[0])
        ]
        swapped = swap(*both, np.random.default_rng(seed), RESAMPLES)
        verdicts.append([difference(one, two, swapped, level).more_than_chance for level, _ in FIGURES])
    return (
        f"held {_pair(np.mean(held, axis=0))}, width {np.min(widths):.4f} to {np.max(widths):.3f}, "
        f"by class at 0.5 {np.mean(classes):.3f} of {len(classes)}, verdicts {_pair(np.mean(verdicts, axis=0))}"
    )


FIGURES = ((0, slice(0, 1)), (None, slice(None)))


def _holds(interval: tuple[float, float], value: float) -> bool:
    return interval[0] <= value <= interval[1]


def _pair(values: np.ndarray) -> str:
    return " / ".join(f"{value:.3f}" for value in values)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else SETS)
