"""Training: from labelled pictures to a model bundle."""

import copy
import math
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, replace
from pathlib import Path

import numpy as np
import torch
from torch import nn

from avocet.core.anchors import cluster_anchors
from avocet.core.boxes import Array
from avocet.core.errors import InputError
from avocet.core.letterbox import letterbox
from avocet.core.precision import PictureDetections, PictureTruth, evaluate
from avocet.detector.augmentation import Augmentation
from avocet.detector.batches import Batch, HeldOutPictures, TrainingPictures
from avocet.detector.bundle import ModelCard, write_bundle
from avocet.detector.checkpoint import Progress, load_checkpoint, save_checkpoint
from avocet.detector.labelled import LabelledPicture
from avocet.detector.loss import Losses, detection_loss
from avocet.detector.network import Network, native_bfloat16
from avocet.detector.predictor import MEASURING_SCORE, OVERLAP_LIMIT, as_input, candidates_of
from avocet.detector.reports import EpochReport, Validation, figures_by_class
from avocet.detector.settings import Settings
from avocet.detector.sizes import ANCHORS_PER_LEVEL, STRIDES, size_named
from avocet.files import replacing

REACH = 2.0
AUGMENTED_SIZES = (0.75, 1.0, 1.35)
"""Box sizes are clustered as training shows them: smaller, as they are, larger."""

VALIDATE_AFTER = 5
"""Validate once so many times more training than validation pictures have been seen."""

WHOLE_PICTURES = 0.15
"""Share at the end of a training that goes without collages."""

CHECKPOINT_SECONDS = 5.0


def training_anchors(pictures: Sequence[LabelledPicture], side: int, seed: int) -> Array:
    """Anchors clustered from the boxes of the training pictures in input pixels.

    Parameters
    ----------
    pictures : sequence of LabelledPicture
    side : int
    seed : int

    Returns
    -------
    (3, 3, 2) ndarray of float64
        Level by level, small to large.

    Raises
    ------
    InputError
        If there is no box to cluster.
    """
    sizes = [np.zeros((0, 2))]
    for picture in pictures:
        boxes = letterbox(picture.width, picture.height, side).to_input(picture.boxes[~picture.ignored])
        sizes.append(boxes[:, 2:] - boxes[:, :2])
    all_sizes = np.concatenate(sizes)
    all_sizes = all_sizes[(all_sizes > 0).all(axis=1)]
    if not len(all_sizes):
        raise InputError("the training pictures hold no box; label some first")
    varied = np.concatenate([all_sizes * factor for factor in AUGMENTED_SIZES])
    anchors = cluster_anchors(
        varied, len(STRIDES) * ANCHORS_PER_LEVEL, np.random.default_rng(seed), restarts=3
    )
    return anchors.reshape(len(STRIDES), ANCHORS_PER_LEVEL, 2)


class Training:
    """A training that can be run, stopped after any step and resumed after the last kept epoch.

    Parameters
    ----------
    settings : Settings
    class_names : sequence of str
    training, validation : sequence of LabelledPicture
    folder : Path
        Where ``latest.safetensors`` (to resume), ``latest.zip`` and ``best.zip`` (to use) go.
    snapshot : str
        Content hash of the labels, for the bundle.

    Raises
    ------
    InputError
        If there is no picture to train or validate on, or no box.
    """

    def __init__(
        self,
        settings: Settings,
        class_names: Sequence[str],
        training: Sequence[LabelledPicture],
        validation: Sequence[LabelledPicture],
        folder: Path,
        snapshot: str = "",
    ) -> None:
        if not training:
            raise InputError("there is no labelled picture in the training part")
        if not validation:
            raise InputError("there is no labelled picture in the validation part")
        self.settings, self.class_names, self.folder, self._snapshot = (
            settings,
            list(class_names),
            folder,
            snapshot,
        )
        self.anchors = training_anchors(training, settings.side, settings.seed)
        self._training = TrainingPictures(
            training, settings.side, settings.batch, Augmentation(flips=settings.flips), settings.seed
        )
        self._validation = HeldOutPictures(validation, settings.side, settings.batch)
        self._device = torch.device("cuda" if torch.cuda.is_available() else "cpu")
        self._bfloat16 = native_bfloat16()
        with torch.random.fork_rng():
            torch.manual_seed(settings.seed)
            network = Network(size_named(settings.size), len(class_names))
        self.network = network.to(self._device).to(memory_format=torch.channels_last)  # type: ignore[call-overload]
        self.average = copy.deepcopy(self.network).eval().requires_grad_(False)
        self._optimizer = torch.optim.AdamW(
            _parameter_groups(self.network), lr=settings.learning_rate, betas=(0.9, 0.99)
        )
        self.progress = Progress()
        self._last_validation: Validation | None = None
        self._saved_at = time.monotonic()

    @property
    def total_steps(self) -> int:
        return self.settings.epochs * self._training.steps

    @property
    def checkpoint_path(self) -> Path:
        return self.folder / "latest.safetensors"

    def resume(self) -> bool:
        """Go on from the kept checkpoint, if there is one."""
        if not self.checkpoint_path.exists():
            return False
        self.progress = load_checkpoint(self.checkpoint_path, self.network, self.average, self._optimizer)
        return True

    def run(
        self,
        on_epoch: Callable[[EpochReport], None],
        on_step: Callable[[int, float], None] = lambda step, loss: None,
        should_stop: Callable[[], bool] = lambda: False,
    ) -> bool:
        """Train the epochs that are left.

        Parameters
        ----------
        on_epoch : callable
            Gets every `EpochReport`.
        on_step : callable
            Gets the number of finished steps in all and the loss of the last one.
        should_stop : callable
            Asked after every step; where it says yes, the epoch is abandoned and everything up
            to the epoch before is kept.

        Returns
        -------
        bool
            True where all epochs are done, false where it was stopped.

        Raises
        ------
        InputError
            If the loss is no longer finite; the last good checkpoint stays.
        """
        for epoch in range(self.progress.epoch, self.settings.epochs):
            before = self._training_state()
            report = self._one_epoch(epoch, on_step, should_stop)
            if report is None:
                self._restore(before)
                self._save(final=True)
                return False
            on_epoch(report)
            self._save(final=epoch + 1 == self.settings.epochs)
        return True

    def _one_epoch(
        self, epoch: int, on_step: Callable[[int, float], None], should_stop: Callable[[], bool]
    ) -> EpochReport | None:
        started, seen = time.monotonic(), 0
        sums = np.zeros(3)
        whole = epoch >= self.settings.epochs * (1 - WHOLE_PICTURES)
        self.network.train()
        rate = 0.0
        for number, batch in enumerate(self._training.epoch(epoch, whole_pictures_only=whole)):
            step = epoch * self._training.steps + number
            rate = self._learning_rate(step)
            parts = self._one_step(batch, rate, step)
            sums += parts
            seen += len(batch.pixels)
            on_step(step + 1, float(parts.sum()))
            if should_stop():
                return None
        speed = seen / max(1e-9, time.monotonic() - started)
        progress = replace(
            self.progress, epoch=epoch + 1, since_validation=self.progress.since_validation + seen
        )
        validation, best = None, False
        last = epoch + 1 == self.settings.epochs
        if last or progress.since_validation >= VALIDATE_AFTER * len(self._validation.pictures):
            validation = self.validate()
            best = validation.map > progress.best_map
            progress = replace(progress, since_validation=0)
            if best:
                progress = replace(progress, best_map=validation.map, best_epoch=epoch + 1)
        self.progress, self._last_validation = progress, validation or self._last_validation
        if best and validation is not None:
            self._write_bundle("best.zip", validation)
        box, objectness, classes = sums / self._training.steps
        return EpochReport(epoch + 1, box, objectness, classes, rate, speed, validation, best)

    def _one_step(self, batch: Batch, rate: float, step: int) -> np.ndarray:
        for group in self._optimizer.param_groups:
            group["lr"] = rate
        losses = self._losses(self.network, batch)
        parts = np.array([part.item() for part in (losses.box, losses.objectness, losses.classes)])
        if not np.isfinite(parts).all():
            name = ("box", "objectness", "class")[int((~np.isfinite(parts)).argmax())]
            raise InputError(
                f"the {name} loss is no longer a finite number in step {step + 1}; "
                f"try a learning rate below {self.settings.learning_rate:g}. The last good checkpoint is kept."
            )
        self._optimizer.zero_grad(set_to_none=True)
        losses.total.backward()
        nn.utils.clip_grad_norm_(self.network.parameters(), 10.0)
        self._optimizer.step()
        self._follow(step)
        return parts

    def _losses(self, network: nn.Module, batch: Batch) -> Losses:
        with torch.autocast(self._device.type, torch.bfloat16, enabled=self._bfloat16):
            outputs = network(as_input(batch.pixels, self._device))
        return detection_loss(outputs, batch.truths, self.anchors, STRIDES, REACH)

    def _learning_rate(self, step: int) -> float:
        """5 % of the steps to warm up, then a cosine down to 2 %."""
        total = self.total_steps
        warm = max(1, round(0.05 * total))
        if step < warm:
            return self.settings.learning_rate * (step + 1) / warm
        done = (step - warm) / max(1, total - warm)
        return self.settings.learning_rate * (0.02 + 0.98 * 0.5 * (1 + math.cos(math.pi * done)))

    @torch.no_grad()
    def _follow(self, step: int) -> None:
        """Moving average of the weights, quick at first."""
        keep = 0.998 * (1 - math.exp(-(step + 1) / 40))
        for mine, theirs in zip(
            self.average.state_dict().values(), self.network.state_dict().values(), strict=True
        ):
            if mine.dtype.is_floating_point:
                mine.lerp_(theirs, 1 - keep)
            else:
                mine.copy_(theirs)

    @torch.no_grad()
    def validate(self) -> Validation:
        """Losses and mAP of the averaged weights on the validation pictures. Changes no weight."""
        sums, batches = np.zeros(3), 0
        pictures = self._validation.pictures
        found: list[PictureDetections | None] = [None] * len(pictures)
        card = self.card({})
        for indices, batch in self._validation:
            with torch.autocast(self._device.type, torch.bfloat16, enabled=self._bfloat16):
                outputs = self.average(as_input(batch.pixels, self._device))
            losses = detection_loss(outputs, batch.truths, self.anchors, STRIDES, REACH)
            sums += [losses.box.item(), losses.objectness.item(), losses.classes.item()]
            batches += 1
            levels = [level.float().cpu().numpy() for level in outputs]
            for row, index in enumerate(indices):
                picture = pictures[index]
                candidates = candidates_of(
                    [level[row] for level in levels],
                    card,
                    self._validation.letterbox_of(index),
                    picture.width,
                    picture.height,
                    MEASURING_SCORE,
                )
                found[index] = candidates.after_suppression(MEASURING_SCORE, OVERLAP_LIMIT)
        truths = [PictureTruth(picture.boxes, picture.classes, picture.ignored) for picture in pictures]
        measured = evaluate(
            truths, [each for each in found if each is not None], range(len(self.class_names))
        )
        box, objectness, classes = sums / max(1, batches)
        return Validation(
            box,
            objectness,
            classes,
            _or_zero(measured.mean(0.5)),
            _or_zero(measured.mean()),
            figures_by_class(measured, self.class_names),
        )

    def card(self, metrics: dict[str, object]) -> ModelCard:
        """What the bundle will say."""
        return ModelCard(
            size=self.settings.size,
            classes=self.class_names,
            side=self.settings.side,
            anchors=[[(float(w), float(h)) for w, h in level] for level in self.anchors],
            reach=REACH,
            snapshot=self._snapshot,
            training=asdict(self.settings)
            | {
                "steps": self.total_steps,
                "number_format": "bfloat16" if self._bfloat16 else "float32",
                "threads": torch.get_num_threads(),
                "torch": torch.__version__,
            },
            metrics=metrics,
        )

    def _save(self, final: bool) -> None:
        """Keep the latest state: at the end always, else every few seconds.

        When does not matter for the result: a resumed training repeats the lost epochs exactly.
        """
        if not final and time.monotonic() - self._saved_at < CHECKPOINT_SECONDS:
            return
        save_checkpoint(self.checkpoint_path, self.network, self.average, self._optimizer, self.progress)
        if self.progress.epoch:
            self._write_bundle("latest.zip", self._last_validation)
        self._saved_at = time.monotonic()

    def _write_bundle(self, name: str, validation: Validation | None) -> None:
        metrics: dict[str, object] = {"epoch": self.progress.epoch}
        if validation is not None:
            metrics |= {
                "map50": validation.map50,
                "map": validation.map,
                "classes": validation.by_class,
                "validation_loss": validation.loss,
                "pictures": len(self._validation.pictures),
            }
        with replacing(self.folder / name) as temporary:
            write_bundle(temporary, self.card(metrics), self.average.state_dict())

    def _training_state(self) -> tuple[dict, dict, dict]:
        return copy.deepcopy(
            (self.network.state_dict(), self.average.state_dict(), self._optimizer.state_dict())
        )

    def _restore(self, state: tuple[dict, dict, dict]) -> None:
        network, average, optimizer = state
        self.network.load_state_dict(network)
        self.average.load_state_dict(average)
        self._optimizer.load_state_dict(optimizer)


def _or_zero(value: float) -> float:
    return 0.0 if math.isnan(value) else value


def _parameter_groups(network: nn.Module) -> list[dict[str, object]]:
    """Weight decay for convolution kernels only, not for biases and normalisations."""
    kernels = [parameter for parameter in network.parameters() if parameter.ndim > 1]
    rest = [parameter for parameter in network.parameters() if parameter.ndim <= 1]
    return [{"params": kernels, "weight_decay": 0.02}, {"params": rest, "weight_decay": 0.0}]
