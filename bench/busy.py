"""A step of training alone and beside busy processes: as torch comes, as Avocet starts it, as a run then chooses."""

import os
import subprocess
import sys

import numpy as np

from avocet.cli.main import THREADS_THAT_WAIT

STEPS = 10

STEP = f"""
import os
import time
import numpy as np
import torch
from avocet.detector.model.network import Network
from avocet.detector.model.sizes import size_named
from avocet.detector.training.threads import TIMED, Threads

torch.manual_seed(0)
network = Network(size_named("stint"), 5).to(memory_format=torch.channels_last)
batch = torch.rand(8, 3, 256, 416).to(memory_format=torch.channels_last)
threads = Threads(lambda words: None) if "CHOOSES" in os.environ else None
times = []
for number in range(2 * (TIMED + 1) + {STEPS}):
    begun = time.perf_counter()
    sum(level.square().mean() for level in network(batch)).backward()
    times.append(time.perf_counter() - begun)
    if threads:
        threads.took(times[-1])
print(np.median(times[-{STEPS}:]))
"""


def step(busy: int, environment: dict[str, str]) -> float:
    """Median seconds of a step in a process of its own, beside so many that only compute."""
    others = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(busy)]
    clean = {name: value for name, value in os.environ.items() if name not in THREADS_THAT_WAIT}
    try:
        command = [sys.executable, "-c", STEP]
        done = subprocess.run(command, env=clean | environment, capture_output=True, text=True, check=True)
    finally:
        for each in others:
            each.kill()
            each.wait()
    return float(done.stdout)


def main() -> None:
    """Print each way in turn, the median of three rounds."""
    ways = {
        "as torch comes": {},
        "as Avocet starts it": THREADS_THAT_WAIT,
        "as a run chooses": THREADS_THAT_WAIT | {"CHOOSES": "1"},
        "one thread": {"OMP_NUM_THREADS": "1"},
    }
    print(f"seconds of Stint's forward and backward step, batch 8 at 416×256, {os.cpu_count()} cores")
    print(f"{'beside':24}" + "".join(f"{name:>22}" for name in ways))
    for busy in (0, 1, 2):
        rounds = [[step(busy, environment) for environment in ways.values()] for _ in range(3)]
        shown = np.median(rounds, axis=0)
        label = f"{busy} busy processes"
        print(f"{label:24}" + "".join(f"{value:22.2f}" for value in shown))
