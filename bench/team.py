"""A training by two processes of one thread against one: how much of twice the speed they reach."""

import multiprocessing
import socket
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import torch

from avocet.core.detections import PictureTruth
from avocet.demo.belt import NAMES, render_still
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings
from avocet.detector.training.team import ALONE, Team, team_at
from avocet.detector.training.trainer import Training

PICTURES, STEPS, FIRST, ROUNDS = 16, 16, 4, 5
"""Pictures of 960 × 540; steps, of which the first are not timed; rounds."""


def main() -> None:
    """Print the median of the paired ratios."""
    pairs = [(one(), two()) for _ in range(ROUNDS)]
    alone, both = (float(np.median([pair[which] for pair in pairs])) for which in (0, 1))
    ratios = np.array([first / second for first, second in pairs])
    print(f"  training: Stint, side 384, batch 8, float32, {ROUNDS} rounds")
    print(f"  a step by one process of one thread {alone:.2f} s, by two {both:.2f} s")
    print(
        f"  two against one: {np.median(ratios):.2f} times ({ratios.min():.2f} to {ratios.max():.2f}), "
        f"efficiency {np.median(ratios) / 2:.2f}"
    )


def one() -> float:
    """Seconds of a step alone, in a process of its own."""
    return _in_processes(1)


def two() -> float:
    """Seconds of a step together."""
    return _in_processes(2)


def _in_processes(size: int) -> float:
    spawning = multiprocessing.get_context("spawn")
    told: Any = spawning.Queue()
    with socket.socket() as held:
        held.bind(("127.0.0.1", 0))
        port = held.getsockname()[1]
    members = [spawning.Process(target=_member, args=(rank, size, port, told)) for rank in range(size)]
    for each in members:
        each.start()
    times = [told.get() for _ in members]
    for each in members:
        each.join()
    return float(max(times))


def _member(rank: int, size: int, port: int, told: Any) -> None:
    torch.set_num_threads(1)
    if size == 1:
        told.put(_step(ALONE))
        return
    with team_at("127.0.0.1", port, rank, size, torch.device("cpu"), 120) as team:
        told.put(_step(team))


def _step(team: Team) -> float:
    """Median seconds of a step; the pictures are decoded by then."""
    stills = [render_still(seed) for seed in range(PICTURES)]
    pictures = [
        LabelledPicture(
            f"{number}.jpg",
            each.pixels.shape[1],
            each.pixels.shape[0],
            lambda each=each: each.pixels,  # type: ignore[misc]
            PictureTruth(each.boxes, np.array([NAMES.index(name) for name in each.classes])),
        )
        for number, each in enumerate(stills)
    ]
    settings = Settings(
        side=384, epochs=1, batch=8, passes=STEPS * 8 // PICTURES, number_format="float32",
        augmentation=Augmentation(flips="sideways"),
    )  # fmt: skip
    ends = [time.perf_counter()]
    with tempfile.TemporaryDirectory() as place:
        training = Training(settings, list(NAMES), pictures, pictures[:2], Path(place))
        training.team = team
        training.run(lambda report: None, lambda step, loss: ends.append(time.perf_counter()))
        training.close()
    return float(np.median(np.diff(ends)[FIRST:]))
