"""What the loader and the trainer add to the bare steps, and anchors of very many boxes."""

import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import psutil
import torch

from avocet.core.raw.anchors import cluster_anchors, mean_best_iou
from avocet.demo.goods import NAMES
from avocet.demo.project import FIRST_SEED
from avocet.detector.engines.torch_engine import as_input
from avocet.detector.model.sizes import STRIDES
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.batches import TrainingPictures
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.targets.loss import detection_loss
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import REACH, Training
from avocet.jobs.memory import keep_memory
from bench.learning import labelled

PICTURES, PASSES, MANY = 24, 10, 960
ROUNDS = 9
BOXES, ANCHORS = 850_000, 9


def main() -> None:
    """Print ratios measured in one run."""
    keep_memory()  # as a worker does
    pictures = [labelled(FIRST_SEED + number) for number in range(PICTURES)]
    with tempfile.TemporaryDirectory() as name:
        settings = Settings(epochs=1, passes=PASSES, augmentation=Augmentation(flips="all"))
        run = Training(settings, NAMES, pictures, pictures[:1], Path(name))
        loader = run.training_pictures
        batches = list(loader.epoch(0))
        run.run(lambda report: None)  # warms everything up
        bare, ours, preparing = [], [], []
        for number in range(ROUNDS):
            bare.append(_bare(run, batches))
            before, started = loader.seconds_preparing, time.perf_counter()
            run.network.train()
            for step, batch in enumerate(loader.epoch(0)):
                run._one_step(batch, 0.001, step, number, step)
            ours.append((time.perf_counter() - started) / len(batches))
            preparing.append((loader.seconds_preparing - before) / len(batches))
        run.close()
    step, whole, load = (float(np.median(each)) for each in (bare, ours, preparing))
    # What slows the machine for a while slows both of a round: their ratio tells, not that of the medians.
    ratios = np.sort(np.array(ours) / bare)
    print(f"Stint at 416, batch 8, {torch.get_num_threads()} threads, {len(batches)} steps, {ROUNDS} rounds")
    print(f"  bare step {1000 * step:.0f} ms; the trainer's with loader {1000 * whole:.0f} ms")
    print(
        f"  {np.median(ratios):.2f} times the bare steps, {ratios[0]:.2f} to {ratios[-1]:.2f} (wanted: up to 1.10)"
    )
    print(f"  loader's own processor time {load / whole:.1%} of a step (wanted: under 10 %)")
    _growth(pictures)
    _anchors()


def _growth(pictures: list[LabelledPicture]) -> None:
    """What a batch costs, and what the process holds, with few and with many pictures."""
    times, held = [], []
    for many in (PICTURES, MANY):
        some = [replace(pictures[number % PICTURES], name=str(number)) for number in range(many)]
        loader = TrainingPictures(some, 416, 8, Augmentation(flips="all"), 0)
        for _ in loader.epoch(0):
            pass  # decodes every picture once
        batches = max(1, 240 // loader.steps)
        before = loader.seconds_preparing
        for number in range(batches):
            for _ in loader.epoch(number + 1):
                pass
        times.append((loader.seconds_preparing - before) / (batches * loader.steps))
        held.append(psutil.Process().memory_info().rss - psutil.Process().memory_info().shared)
        loader.close()
    print(
        f"  a batch of {MANY} pictures costs {times[1] / times[0]:.2f} times one of {PICTURES} (wanted: 1),"
    )
    print(f"  and {(held[1] - held[0]) / 1e6:.0f} MB more are held; their pixels are {MANY * 0.3:.0f} MB")


def _bare(run: Training, batches: list) -> float:
    """Seconds of a step of forward, loss, backward and optimiser on batches that are there."""
    started = time.perf_counter()
    run.network.train()
    for batch in batches:
        outputs = run.network(as_input(batch.pixels, torch.device("cpu"), batch.light))
        losses = detection_loss(outputs, batch.truths, run.anchors, STRIDES, REACH)
        run._optimizer.zero_grad(set_to_none=True)
        losses.total.backward()
        run._optimizer.step()
    return (time.perf_counter() - started) / len(batches)


def _anchors() -> None:
    random = np.random.default_rng(0)
    sizes = np.exp(random.normal((3.6, 3.6), 0.8, (BOXES, 2)))
    started = time.perf_counter()
    anchors = cluster_anchors(sizes, ANCHORS, np.random.default_rng(0))
    seconds = time.perf_counter() - started
    few = random.permutation(BOXES)[:15_000]
    started = time.perf_counter()
    plain = cluster_anchors(sizes[few], ANCHORS, np.random.default_rng(0))
    share = time.perf_counter() - started
    print(f"{ANCHORS} anchors of {BOXES:,} boxes: {seconds:.1f} s (wanted: under 10 s), ")
    print(f"  {seconds / share:.1f} times that of {len(few):,} boxes taken one by one;")
    print(
        f"  mean best IoU {mean_best_iou(sizes, anchors):.4f}, with anchors of those few {mean_best_iou(sizes, plain):.4f}"
    )
