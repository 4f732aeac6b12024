"""Whether statements about uncertainty are true: intervals that hold, verdicts that are right, on made populations."""

import sys

import numpy as np
from threadpoolctl import threadpool_limits

from avocet.core.score.chance.paired import difference
from avocet.core.score.chance.resampling import resample
from avocet.core.score.chance.saturation import fit_saturation
from avocet.core.score.chance.swapping import swap
from avocet.core.score.measurement import sum_up
from avocet.work.train.studies import WORTH
from bench.populations import CURVES, POPULATIONS, TRAININGS, Population, draw, true_precision

SETS, SIZES, RESAMPLES = 40, (20, 50, 200), 400
FORETOLD, CLOSE = 300, 30
"""Pairs of detectors whose next comparison is foretold, and pictures of each."""

ADVICE = {True: "worth it", False: "not", None: "cannot be told"}
BANDS = ((0.0, 0.3), (0.3, 0.7), (0.7, 1.0))
FIGURES = ((0, slice(0, 1)), (None, slice(None)))
"""mAP at 0.5 and over all thresholds: place of the threshold, and the part of all."""


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
        print(f"Who comes out ahead on another set, foretold of {FORETOLD} pairs: said, and came true")
        for said, true, count in foretold():
            print(f"  {said:.2f}, {true:.2f} ({count} pairs)")
        print(
            f"mAP with twice as many pictures, from {len(TRAININGS)} trainings: the range of 90 % that held it"
        )
        for name in CURVES:
            print(f"  {name}: {curve_held(name, sets)}", flush=True)


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


def foretold() -> list[tuple[float, float, int]]:
    """In bands of what was said: its mean, the share that came true, and how many there were."""
    generator = np.random.default_rng(8)
    said, true = [], []
    for found in generator.uniform(0.80, 0.90, FORETOLD).tolist():
        kinds = [Population((1.0,), each, 1.2, 0.80, 1.2) for each in (0.85, found)]
        seeds = generator.integers(1 << 30, size=2)
        now, then = ([draw(each, CLOSE, np.random.default_rng(seed))[0] for each in kinds] for seed in seeds)
        drawn = [resample(each, np.random.default_rng(seeds[0]), RESAMPLES) for each in now]
        said.append(difference(*drawn, swap(*now, np.random.default_rng(seeds[0]), 20)).ahead)
        later = [sum_up(each).mean() for each in then]
        true.append(float(later[1] > later[0]) + 0.5 * (later[1] == later[0]))
    values, came = np.array(said), np.array(true)
    bands = [(values >= low) & (values <= high) for low, high in BANDS]
    return [(float(values[each].mean()), float(came[each].mean()), int(each.sum())) for each in bands]


def curve_held(name: str, sets: int) -> str:
    """How often the range held what a curve reaches, with trainings that waver by 0.01 and 0.02, and the advice."""
    generator, real, lines = np.random.default_rng(1), CURVES[name], []
    for noise in (0.01, 0.02):
        held, advice = 0, dict.fromkeys(ADVICE, 0)
        for _ in range(sets):
            noisy = np.clip(real(TRAININGS) + generator.normal(0, noise, len(TRAININGS)), 0, 1)
            found = fit_saturation(TRAININGS.tolist(), noisy.tolist(), 80, generator)
            held += found.low <= real(80.0) <= found.high
            advice[found.worth(WORTH)] += 1
        told = ", ".join(f"{ADVICE[key]} {value / sets:.2f}" for key, value in advice.items() if value)
        lines.append(f"{held / sets:.2f} ({told})")
    return " / ".join(lines)


def _holds(interval: tuple[float, float], value: float) -> bool:
    return interval[0] <= value <= interval[1]


def _pair(values: np.ndarray) -> str:
    return " / ".join(f"{value:.3f}" for value in values)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else SETS)
