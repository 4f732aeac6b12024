"""Makes Godwit's starting weights, which have seen photographs.

    python scripts/photograph_weights.py FOLDER CACHE [--features STEPS] [--epochs N] [--first N] [--go-on]

Its early layers begin with Stint's, its upper stages with those of a published network for naming photographs. First
all learn to see what that one sees at strides 8, 16 and 32 (Romero et al., 2015), then to find cut-outs in scenes
of photographs, seeing the same still. FOLDER keeps the checkpoints: interrupted, it goes on where it was; CACHE the
photographs. With --go-on it begins with the weights that are shipped now and other scenes (--first), and learns to
find only.

Not shipped yet: after 250 steps of features (distance .85, .43, .43 in parts of their variance) and 312 of finding,
eight kinds from 24 pictures (`bench/photographs.py`, seed 0) came to .554 on new backgrounds and .309 on new
individuals at IoU 0.5, where Stint has .719 and .294. It needs thousands of steps, some 1.5 s each on two threads.
"""

import argparse
import multiprocessing
import shutil
from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
import safetensors.torch
import torch
from image_teacher import Teacher, begin_with, published_weights
from numpy.typing import NDArray
from photograph_scenes import Scene, Sources, made_small, photograph_part, photograph_scene
from photographs import learnt_from
from shape_scenes import SHAPES, render_scene
from torch import Tensor, nn

from avocet.core.detections import PictureTruth
from avocet.detector.engines.torch_engine import as_input
from avocet.detector.model.bundle import read_bundle
from avocet.detector.model.network import Network
from avocet.detector.model.shipped import pack_weights, shipped_weights
from avocet.detector.model.sizes import GODWIT, SIZES, STRIDES
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.batches import Batch
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.targets.loss import Losses, detection_loss
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import REACH, Training

SIDE, BATCH, SCENES, HELD_OUT = 256, 16, 5000, 100
HELD_OUT_SEED = 1_000_000
FEATURES, FEATURE_SIDE, FEATURE_RATE = 600, 192, 0.004
EPOCHS, LEARNING_RATE = 6, 0.003
OF_SHAPES = 5
"""Every so-manyth scene is one of shapes, as the other sizes learn from."""

SHOWN = 4
"""Pictures of a batch that the published network looks at too, while boxes are learnt."""

KEPT_EVERY = 100
NOTICE = Path(__file__).with_suffix(".notice")
TARGET = Path(__file__).parent.parent / "src" / "avocet" / "detector" / "weights" / "godwit.zip"


class Seen:
    """What a network saw at strides 8, 16 and 32 when it looked last."""

    def __init__(self, network: Network) -> None:
        self.features: list[Tensor] = []
        for stage in network.stages[-len(STRIDES) :]:
            stage.register_forward_hook(self._note)

    def _note(self, stage: nn.Module, inputs: tuple[Tensor, ...], output: Tensor) -> None:
        self.features = [*self.features, output][-len(STRIDES) :]

    def apart(self, shown: Sequence[Tensor]) -> Tensor:
        """How far that is from what was to be seen, in parts of its variance, stride by stride."""
        parts = []
        for mine, theirs in zip(self.features, shown, strict=True):
            spread = theirs.var(dim=(0, 2, 3), keepdim=True) + 1e-3
            parts.append(((mine[: len(theirs)] - theirs) ** 2 / spread).mean())
        return torch.stack(parts)


class Taught(Training):
    """A training that goes on seeing what a published network sees."""

    def taught_by(self, teacher: Teacher) -> None:
        self._teacher, self._seen = teacher, Seen(self.network)
        self.average.load_state_dict(self.network.state_dict())

    def _losses(self, batch: Batch) -> Losses:
        pixels = as_input(batch.pixels, self.device, batch.light)
        outputs = self.network(pixels)
        losses = detection_loss(outputs, batch.truths, self.anchors, STRIDES, REACH, self._weights)
        # Reported with the boxes, for want of a part of its own.
        return replace(losses, box=losses.box + self._seen.apart(self._teacher(pixels[:SHOWN])).sum())


def learn_features(network: Network, teacher: Teacher, of: Sources, steps: int, path: Path) -> None:
    """Learn to see what the teacher sees, on parts of photographs and on scenes."""
    seen, done = Seen(network), 0
    optimizer = torch.optim.AdamW(network.backbone.parameters(), FEATURE_RATE, weight_decay=0.01)
    if path.exists():
        network.load_state_dict(safetensors.torch.load_file(path))
        done = int(path.with_suffix(".txt").read_text())
    network.train()
    means = np.zeros(len(STRIDES))
    torch.set_num_threads(multiprocessing.cpu_count())
    for step in range(done, steps):
        random = np.random.default_rng([step, 5])
        some = [
            np.asarray(photograph_part(of, FEATURE_SIDE, random))
            if each % 2
            else photograph_scene(of, FEATURE_SIDE, int(random.integers(HELD_OUT_SEED)))[0]
            for each in range(BATCH)
        ]
        pixels = torch.from_numpy(np.stack(some)).permute(0, 3, 1, 2) / 255
        pixels = pixels.contiguous(memory_format=torch.channels_last)
        rate = FEATURE_RATE * min(1, (step + 1) / 50) * 0.5 * (1 + np.cos(np.pi * step / steps))
        for group in optimizer.param_groups:
            group["lr"] = max(1e-5, rate)
        x = network.stem(pixels)
        for stage in network.stages:
            x = stage(x)
        apart = seen.apart(teacher(pixels))
        optimizer.zero_grad()
        apart.sum().backward()
        optimizer.step()
        means += 0.05 * (apart.detach().numpy() - means)
        if (step + 1) % KEPT_EVERY == 0 or step + 1 == steps:
            kept = {name: value.contiguous() for name, value in network.state_dict().items()}
            safetensors.torch.save_file(kept, path)
            path.with_suffix(".txt").write_text(str(step + 1))
            print(f"features, step {step + 1}: {np.round(means, 3)}", flush=True)


_given: list[Sources] = []


def _scene(seed: int) -> Scene:
    of = _given[-1]
    if seed % OF_SHAPES:
        return photograph_scene(of, SIDE, seed)
    pixels, boxes, classes = render_scene(seed, SIDE)
    return pixels, boxes, [each + len(of.cut_outs) for each in classes]


def scenes(of: Sources, seeds: range) -> list[LabelledPicture]:
    """Scenes as training pictures."""
    # Given once to each process: there are hundreds of photographs.
    with multiprocessing.Pool(initializer=_given.append, initargs=(of,)) as pool:
        made = pool.map(_scene, seeds, chunksize=20)
    return [
        LabelledPicture(
            str(seed), SIDE, SIDE, partial(_same, pixels), PictureTruth(boxes, np.array(classes, int))
        )
        for seed, (pixels, boxes, classes) in zip(seeds, made, strict=True)
    ]


def _same(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    return pixels


def main() -> None:
    """Learn to see, then to find, and pack the weights."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("cache", type=Path)
    parser.add_argument("--features", type=int, default=FEATURES)
    parser.add_argument("--epochs", type=int, default=EPOCHS)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--go-on", action="store_true")
    given = parser.parse_args()
    given.folder.mkdir(parents=True, exist_ok=True)
    photographs, cut_outs = learnt_from(given.cache)
    of = made_small(photographs, list(cut_outs.values()))
    published = published_weights(given.cache)
    teacher, names = Teacher(published), [*cut_outs, *SHAPES]
    print(f"{len(photographs)} photographs, {len(names)} classes", flush=True)
    # Not among the sizes that are offered before it has weights.
    SIZES.setdefault(GODWIT.name, GODWIT)
    settings = Settings(
        size="godwit", side=SIDE, epochs=given.epochs, batch=BATCH, learning_rate=LEARNING_RATE, multi_scale=True,
        augmentation=Augmentation(flips="sideways"),
    )  # fmt: skip
    training = scenes(of, range(given.first, given.first + SCENES))
    held_out = scenes(of, range(HELD_OUT_SEED, HELD_OUT_SEED + HELD_OUT))
    run = Taught(settings, names, training, held_out, given.folder / "finding")
    if given.go_on:
        run.start_from(shipped_weights("godwit"))
    else:
        network = Network(GODWIT, len(names), [len(each) for each in run.anchors])
        network.load_state_dict(
            {
                name: value
                for name, value in shipped_weights("stint").tensors.items()
                if name.startswith(("stem", "stages.0", "stages.1.0"))
            },
            strict=False,
        )
        begin_with(network, published)
        network = network.to(memory_format=torch.channels_last)  # type: ignore[call-overload]
        learn_features(network, teacher, of, given.features, given.folder / "features.safetensors")
        run.network.load_state_dict(network.state_dict())
    run.taught_by(teacher)
    run.resume()
    run.run(
        lambda report: print(
            f"{report.epoch}: {report.loss:.3f}, mAP {report.validation.map50:.3f}", flush=True
        ),
        lambda step, loss: print(f"step {step}: {loss:.2f}", flush=True) if step % KEPT_EVERY == 0 else None,
    )
    run.close()
    _, best = read_bundle(given.folder / "finding" / "best.zip")
    pack_weights(TARGET, "godwit", names, best.state_dict())
    shutil.copy(NOTICE, TARGET.with_name("NOTICE"))
    print(f"{TARGET.stat().st_size / 1e6:.2f} MB")


if __name__ == "__main__":
    main()
