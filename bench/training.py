"""What the loader and the trainer add to the bare steps, and anchors of very many boxes."""

import tempfile
import time
from pathlib import Path

import numpy as np
import torch

from avocet.core.anchors import cluster_anchors, mean_best_iou
from avocet.demo.goods import NAMES
from avocet.demo.project import FIRST_SEED
from avocet.detector.augmentation import Augmentation
from avocet.detector.loss import detection_loss
from avocet.detector.predictor import as_input
from avocet.detector.settings import Settings
from avocet.detector.sizes import STRIDES
from avocet.detector.trainer import REACH, Training
from bench.learning import labelled

PICTURES, PASSES = 24, 10
BOXES, ANCHORS = 850_000, 9


def main() -> None:
    """Print ratios measured in one run."""
    pictures = [labelled(FIRST_SEED + number) for number in range(PICTURES)]
    with tempfile.TemporaryDirectory() as name:
        settings = Settings(epochs=1, passes=PASSES, augmentation=Augmentation(flips="all"))
        run = Training(settings, NAMES, pictures, pictures[:1], Path(name))
        loader = run.training_pictures
        batches = list(loader.epoch(0))
        run.run(lambda report: None)  # warms everything up
        bare, ours, preparing = [], [], []
        for number in range(3):
            bare.append(_bare(run, batches))
            before, started = loader.seconds_preparing, time.perf_counter()
            run.network.train()
            for step, batch in enumerate(loader.epoch(0)):
                run._one_step(batch, 0.001, step, number, step)
            ours.append((time.perf_counter() - started) / len(batches))
            preparing.append((loader.seconds_preparing - before) / len(batches))
        run.close()
    step, whole, load = (float(np.median(each)) for each in (bare, ours, preparing))
    print(f"Stint at 416, batch 8, {torch.get_num_threads()} threads, {len(batches)} steps, median of three")
    print(f"  bare step {1000 * step:.0f} ms; the trainer's with loader {1000 * whole:.0f} ms")
    print(f"  overhead {whole / step - 1:.1%} (wanted: under 15 %)")
    print(f"  loader's own processor time {load / whole:.1%} of a step (wanted: under 10 %)")
    _anchors()


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
