"""Makes the starting weights that are shipped with the package.

Each size is trained on rendered scenes of coloured shapes (scripts/shape_scenes.py), which have
nothing of the demo's belt, then packed small. Interrupted, it goes on where it was.

    python scripts/starting_weights.py FOLDER [SIZE ...] [--go-on] [--epochs N] [--first N] [--scenes N]

FOLDER keeps the checkpoints. With --go-on a training begins with the weights that are shipped now.
Stint's weights in the package learnt so 22 epochs with the numbers below, then, with --epochs 15 and
--first 3000, as many other scenes, then, with --epochs 16, --first 6000 and --scenes 6000, twice as many:
mean average precision at 0.5 on 100 held-out scenes was 0.70, 0.73, then 0.785. They began with weights
from easier scenes (twelve solid shapes of 16 pixels to half the side, none cut by much), from which those
of Dunlin and Curlew still are.
"""

import argparse
import multiprocessing
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from shape_scenes import SHAPES, render_scene

from avocet.core.detections import PictureTruth
from avocet.detector.model.bundle import read_bundle
from avocet.detector.model.shipped import pack_weights, shipped_weights
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import Training

SIDE, BATCH, SCENES, HELD_OUT = 256, 16, 3000, 100
HELD_OUT_SEED = 1_000_000
EPOCHS = {"stint": 22, "dunlin": 20, "curlew": 18}
LEARNING_RATE = {"stint": 0.003, "dunlin": 0.002, "curlew": 0.002}
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
