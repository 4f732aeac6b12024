"""`avocet detect` on a folder of 1280 × 720 JPEGs and on one picture, against the bare network on the same inputs."""

import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image

from avocet.demo.belt import render_still
from avocet.detector.engines.opening import graph_beside
from avocet.detector.model.predictor import Predictor
from avocet.work.progress import Silent
from avocet.work.use.running.detect import detect, gather
from avocet.work.use.running.order import DetectionOrder
from bench.using import model as trained_model

PICTURES, ROUNDS = 60, 5
SIZE = (1280, 720)

ALONE = """
import sys, numpy, onnxruntime, PIL.Image
session = onnxruntime.InferenceSession(open(sys.argv[1], "rb").read()[32:])
session.run(None, {"pixels": numpy.zeros((1, 256, 416, 3), numpy.uint8)})
"""
"""As little as finding boxes can be."""


def processor_seconds(does: Callable[[], object]) -> float:
    """Of this process, in all of its threads."""
    before = time.process_time()
    does()
    return time.process_time() - before


def of_a_command(arguments: list[str]) -> tuple[float, float]:
    """Processor seconds and seconds of a process."""
    before, started = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run([sys.executable, *arguments], check=True, capture_output=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    used = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return used, time.perf_counter() - started


def main() -> None:
    """Print milliseconds a picture and ratios, medians of some rounds in turns."""
    # Two threads of one core would count each other's waiting as work.
    allowed = os.sched_getaffinity(0)
    os.sched_setaffinity(0, {min(allowed)})
    try:
        compare()
    finally:
        os.sched_setaffinity(0, allowed)


def compare() -> None:
    """Each way in turns, on the processor that there is."""
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        pictures = place / "pictures"
        pictures.mkdir()
        for number in range(PICTURES):
            made = Image.fromarray(render_still(900 + number).pixels).resize(SIZE)
            made.save(pictures / f"{number:03}.jpg", quality=90)
        model = trained_model(place)
        predictor = Predictor.from_bundle(model)
        inputs = [
            predictor.input_of(np.asarray(Image.open(path)))[None] for path in sorted(pictures.iterdir())
        ]

        def folder_run(copies: str) -> None:
            out = place / "out"
            order = DetectionOrder.for_model(predictor.about, {"copies": copies})
            detect(predictor, gather([pictures]), out, order, Silent())
            shutil.rmtree(out)

        def bare() -> None:
            for each in inputs:
                predictor.raw(each)

        ways: dict[str, Callable[[], None]] = {
            "bare network": bare,
            "folder, no copies": lambda: folder_run("none"),
            "folder, copies with boxes": lambda: folder_run("boxes"),
        }
        took: dict[str, list[float]] = {way: [] for way in ways}
        bare()
        for _ in range(ROUNDS):
            for way, does in ways.items():
                took[way].append(processor_seconds(does) / PICTURES)
        least = np.array(took["bare network"])
        for way, seconds in took.items():
            ratio = float(np.median(np.array(seconds) / least))
            print(
                f"  {way}: {1000 * np.median(seconds):.1f} ms of processor a picture, {ratio:.2f} times the network"
            )
        commands = {
            "as little as it can be": ["-c", ALONE, str(graph_beside(model))],
            "avocet detect": [
                *("-m", "avocet.cli.main", "detect", "--model", str(model)),
                *(str(pictures / "000.jpg"), "--out", str(place / "one")),
            ],
        }
        spent: dict[str, list[tuple[float, float]]] = {command: [] for command in commands}
        for _ in range(ROUNDS):
            for command, arguments in commands.items():
                spent[command].append(of_a_command(arguments))
                shutil.rmtree(place / "one", ignore_errors=True)
        for command, each in spent.items():
            used, seconds = np.median(each, axis=0)
            print(f"  one picture, {command}: {used:.2f} s of processor, {seconds:.2f} s")


if __name__ == "__main__":
    main()
