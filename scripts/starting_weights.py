"""Makes the starting weights that are shipped with the package.

Each size is trained on rendered scenes of coloured shapes (scripts/shape_scenes.py), which have
nothing of the demo's belt, then packed small. Interrupted, it goes on where it was.

    python scripts/starting_weights.py FOLDER [SIZE ...] [--go-on] [--epochs N] [--first N] [--scenes N]
                                       [--taught-by BUNDLE]

FOLDER keeps the checkpoints. With --go-on a training begins with the weights that are shipped now.
Stint's weights in the package learnt so 22 epochs with the numbers below, then, with --epochs 15 and
--first 3000, as many other scenes, then, with --epochs 16, --first 6000 and --scenes 6000, twice as many:
mean average precision at 0.5 on 100 held-out scenes was 0.70, 0.73, then 0.785. They began with weights
from easier scenes (twelve solid shapes of 16 pixels to half the side, none cut by much), from which those
of Dunlin and Curlew still are.

With --taught-by a size begins with the strongest channels of a larger one and follows it. Wren's are so made
from Stint's, FOLDER/stint/best.zip, with --first 20000 and --scenes 6000, ten epochs at a rate of 0.003: 0.69
on the held-out scenes (0.02 after an epoch from nothing, 0.53 so); then, with --go-on, --epochs 14, --first 40000
and --scenes 6000, at the rate below: 0.742.
"""

import argparse
import multiprocessing
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
import torch
from numpy.typing import NDArray
from shape_scenes import SHAPES, render_scene
from torch import Tensor
from torch.nn.functional import binary_cross_entropy_with_logits

from avocet.core.detections import PictureTruth
from avocet.detector.engines.torch_engine import as_input
from avocet.detector.model.bundle import read_bundle
from avocet.detector.model.card import ModelCard
from avocet.detector.model.layers import ConvUnit
from avocet.detector.model.network import Network
from avocet.detector.model.shipped import pack_weights, shipped_weights
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.batches import Batch
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.targets.loss import Losses, detection_loss
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import REACH, STRIDES, Training

SIDE, BATCH, SCENES, HELD_OUT = 256, 16, 3000, 100
HELD_OUT_SEED = 1_000_000
EPOCHS = {"wren": 14, "stint": 22, "dunlin": 20, "curlew": 18}
LEARNING_RATE = {"wren": 0.008, "stint": 0.003, "dunlin": 0.002, "curlew": 0.002}
TARGET = Path(__file__).parent.parent / "src" / "avocet" / "detector" / "weights"


def scenes(seeds: range) -> list[LabelledPicture]:
    """Rendered scenes as training pictures."""
    with multiprocessing.Pool() as pool:
        made = pool.map(partial(render_scene, side=SIDE), seeds, chunksize=20)
    return [
        LabelledPicture(str(seed), SIDE, SIDE, partial(_same, pixels), PictureTruth(boxes, np.array(classes)))
        for seed, (pixels, boxes, classes) in zip(seeds, made, strict=True)
    ]


def _same(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    return pixels


class Taught(Training):
    """A training that follows a larger network too, not only the labels.

    What the larger one says of every cell tells more than the labels do: how sure it is, what it takes the
    object for else. Boxes and classes count by how sure it is of an object (Mehta and Ozturk, 2018).
    """

    def taught_by(self, card: ModelCard, network: Network) -> None:
        """Begin with the strongest channels of a network with the same anchors, and follow it."""
        assert [[(float(w), float(h)) for w, h in level] for level in self.anchors] == card.anchors
        narrow(network, self.network)
        self.average.load_state_dict(self.network.state_dict())
        network.fold()
        self._teacher = network.to(memory_format=torch.channels_last).requires_grad_(False)  # type: ignore[call-overload]

    def _losses(self, batch: Batch) -> Losses:
        pixels = as_input(batch.pixels, self.device, batch.light)
        outputs = self.network(pixels)
        losses = detection_loss(outputs, batch.truths, self.anchors, STRIDES, REACH, self._weights)
        with torch.no_grad():
            shown = self._teacher(pixels)
        # Reported with the boxes, for want of a part of its own.
        return replace(losses, box=losses.box + _unlike(outputs, shown))


def _unlike(outputs: list[Tensor], shown: list[Tensor]) -> Tensor:
    """How far raw outputs are from those of the network that is followed, for each object it sees."""
    total, seen = outputs[0].sum() * 0, 1.0
    for mine, theirs in zip(outputs, shown, strict=True):
        sure = theirs[:, :, 4:5].sigmoid()
        seen += float(sure.sum())
        total = total + binary_cross_entropy_with_logits(mine[:, :, 4:5], sure, reduction="sum")
        place = REACH * (mine[:, :, :2].sigmoid() - theirs[:, :, :2].sigmoid()).abs()
        size = (mine[:, :, 2:4] - theirs[:, :, 2:4]).abs()
        named = binary_cross_entropy_with_logits(mine[:, :, 5:], theirs[:, :, 5:].sigmoid(), reduction="none")
        total = total + (sure * (place + size)).sum() + (sure * named).sum()
    return total / seen


def narrow(large: Network, small: Network) -> None:
    """Fill a network with the strongest channels of a larger one, by the scale of their normalisation (Liu et al., 2017)."""
    stem = _strongest(small.stem, [large.stem])
    _take(small.stem, large.stem, stem, None)
    before, streams = stem, []
    for mine, theirs in zip(small.stages, large.stages, strict=True):
        blocks = list(theirs)[1:]
        # What blocks add to has the same channels throughout.
        stream = _strongest(mine[0], [theirs[0], *(block.widen for block in blocks)])
        _take(mine[0], theirs[0], stream, before)
        for own, block in zip(list(mine)[1:], blocks[len(blocks) + 1 - len(mine) :], strict=True):
            inner = _strongest(own.narrow, [block.narrow])
            _take(own.narrow, block.narrow, inner, stream)
            _take(own.widen, block.widen, stream, inner)
        before = stream
        streams.append(stream)
    neck = _strongest(small.lateral[0], list(large.lateral))
    for level, stream in enumerate(streams[-len(STRIDES) :]):
        _take(small.lateral[level], large.lateral[level], neck, stream)
        smooth = _strongest(small.smooth[level], [large.smooth[level]])
        _take(small.smooth[level], large.smooth[level], smooth, neck)
        small.heads[level].weight.data.copy_(large.heads[level].weight.data[:, smooth])
        small.heads[level].bias.data.copy_(large.heads[level].bias.data)


def _strongest(mine: ConvUnit, theirs: list[ConvUnit]) -> Tensor:
    """Which channels to keep of units that share them, as many as there is room for."""
    strength = sum(unit.norm.weight.data.abs() for unit in theirs)
    return strength.topk(mine.conv.out_channels).indices.sort().values


def _take(mine: ConvUnit, theirs: ConvUnit, outputs: Tensor, inputs: Tensor | None) -> None:
    kernels = theirs.conv.weight.data[outputs]
    mine.conv.weight.data.copy_(kernels if inputs is None else kernels[:, inputs])
    for name in ("weight", "bias", "running_mean", "running_var"):
        getattr(mine.norm, name).data.copy_(getattr(theirs.norm, name).data[outputs])


def main() -> None:
    """Train the sizes that are wanted, and pack them."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("sizes", nargs="*", default=list(EPOCHS))
    parser.add_argument("--go-on", action="store_true", help="begin with the weights shipped now")
    parser.add_argument(
        "--first", type=int, default=0, help="number of the first scene, for others than before"
    )
    parser.add_argument("--scenes", type=int, default=SCENES)
    parser.add_argument("--epochs", type=int, help="instead of the numbers in this file")
    parser.add_argument("--taught-by", type=Path, help="bundle of a larger size, to be followed")
    given = parser.parse_args()
    training = scenes(range(given.first, given.first + given.scenes))
    held_out = scenes(range(HELD_OUT_SEED, HELD_OUT_SEED + HELD_OUT))
    TARGET.mkdir(exist_ok=True)
    for size in given.sizes:
        settings = Settings(
            size=size,
            side=SIDE,
            epochs=given.epochs or EPOCHS[size],
            batch=BATCH,
            learning_rate=LEARNING_RATE[size],
            multi_scale=True,
            augmentation=Augmentation(flips="all"),
        )
        if given.taught_by:
            card, teacher = read_bundle(given.taught_by)
            run = Taught(settings, SHAPES, training, held_out, given.folder / size, begun_as=card)
            run.taught_by(card, teacher)
        else:
            run = Training(settings, SHAPES, training, held_out, given.folder / size)
        if not run.resume() and given.go_on:
            run.start_from(shipped_weights(size))
        run.run(
            lambda report: print(
                f"{report.epoch}: {report.loss:.3f}, mAP {report.validation.map50:.3f}", flush=True
            )
        )
        run.close()
        _, network = read_bundle(given.folder / size / "best.zip")
        pack_weights(TARGET / f"{size}.zip", size, list(SHAPES), network.state_dict())
        print(f"{size}: {(TARGET / f'{size}.zip').stat().st_size / 1e6:.2f} MB")


if __name__ == "__main__":
    main()
