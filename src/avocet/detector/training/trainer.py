"""Training: from labelled pictures to a model bundle."""

import copy
import math
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import torch
from torch import nn
from torch.optim.swa_utils import get_ema_multi_avg_fn

from avocet.core.detections import PictureDetections
from avocet.core.errors import InputError
from avocet.detector.engines.torch_engine import as_input
from avocet.detector.model.bundle import write_bundle
from avocet.detector.model.card import ModelCard, read_bundle_parts
from avocet.detector.model.device import bfloat16_pays, chosen_device
from avocet.detector.model.network import Network
from avocet.detector.model.sizes import STRIDES, size_named
from avocet.detector.model.starting import StartingWeights, Transfer, take_weights
from avocet.detector.pictures.batches import Batch, HeldOutPictures, TrainingPictures
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.pictures.resizing import mean_colour
from avocet.detector.targets.anchors import anchors_for, input_sizes, level_arrays
from avocet.detector.targets.loss import Losses, LossWeights, detection_loss
from avocet.detector.training.checkpoint import Progress, load_checkpoint, save_checkpoint
from avocet.detector.training.reports import EpochReport, Validation
from avocet.detector.training.schedule import learning_rate
from avocet.detector.training.settings import Settings
from avocet.detector.training.team import ALONE, TeamBroken, TeamNorm, first_line, set_norms
from avocet.detector.training.threads import Threads
from avocet.detector.training.validating import validate
from avocet.files import replacing

REACH = 2.0
WHOLE_PICTURES = 0.15
"""Share at the end of a training that goes without collages."""

LARGEST_GRADIENT = 10.0
"""Gradients of a greater norm are shortened to it."""

State = dict[str, Any]


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
    begun_as : ModelCard, optional
        Where another process began it: its anchors and padding are taken.

    Attributes
    ----------
    team : Team
        Who trains together; is set before it is run.

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
        begun_as: ModelCard | None = None,
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
        kept = begun_as or _kept_card(folder)
        self.anchors = (
            level_arrays(kept.anchors)
            if kept
            else anchors_for(input_sizes(training, settings.side), settings)
        )
        self._names = [picture.name for picture in training]
        self._white = white_of_all(training)
        self.padding = kept.padding if kept else mean_colour([picture.read for picture in training])
        self.training_pictures = TrainingPictures(
            training,
            settings.side,
            settings.batch,
            settings.augmentation,
            settings.seed,
            settings.passes,
            settings.multi_scale,
            folder,
            self.padding,
        )
        self._validation = HeldOutPictures(validation, settings.side, settings.batch, folder, self.padding)
        self.team = ALONE
        self.device = chosen_device()
        bfloat16 = settings.number_format == "bfloat16" or (
            settings.number_format == "auto" and bfloat16_pays(self.device)
        )
        self.progress = Progress(number_format="bfloat16" if bfloat16 else "float32")
        self._weights = LossWeights(settings.box_weight, settings.objectness_weight, settings.class_weight)
        with torch.random.fork_rng():
            torch.manual_seed(settings.seed)
            counts = [len(each) for each in self.anchors]
            network = Network(size_named(settings.size), len(class_names), counts)
        self.network = network.to(self.device).to(memory_format=torch.channels_last)  # type: ignore[call-overload]
        self._stepping: nn.Module = self.network
        self._frozen = self.network.backbone if settings.freeze_backbone else nn.ModuleList()
        self._frozen.requires_grad_(False)
        self.average = copy.deepcopy(self.network).eval().requires_grad_(False)
        self._optimizer = _optimizer(self.network, settings)
        # Counters of batches are no weights, and whole numbers cannot be averaged.
        self._followed = tuple(
            [value for value in net.state_dict().values() if value.dtype.is_floating_point]
            for net in (self.average, self.network)
        )
        self._last_validation: Validation | None = None
        self.last_found: list[PictureDetections] = []
        """What the last validation found, one a validation picture."""

    @property
    def total_steps(self) -> int:
        return self.settings.all_epochs * self.training_pictures.steps

    @property
    def trained_share(self) -> float:
        """Share of the weights that are trained rather than frozen."""
        counts = [(each.numel(), each.requires_grad) for each in self.network.parameters()]
        share: float = sum(count for count, trained in counts if trained) / sum(count for count, _ in counts)
        return share

    @property
    def checkpoint_path(self) -> Path:
        return self.folder / "latest.safetensors"

    def start_from(self, weights: StartingWeights) -> Transfer:
        """Take over from other weights what fits. Raises `InputError` if nothing does."""
        transfer = take_weights(self.network, self.class_names, weights)
        self.average.load_state_dict(self.network.state_dict())
        return transfer

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
        told: Callable[[str], None] = lambda words: None,
    ) -> bool:
        """Train the epochs that are left.

        Parameters
        ----------
        on_epoch : callable
            Gets every `EpochReport`, before the checkpoint is written: an epoch that is told of
            twice was trained twice, with the same outcome.
        on_step : callable
            Gets the number of finished steps in all and the loss of the last one.
        should_stop : callable
            Asked after every step; where it says yes, the epoch is abandoned and everything up
            to the epoch before is kept.
        told : callable
            Gets sentences for the log.

        Returns
        -------
        bool
            True where all epochs are done, or none was better for longer than the settings have
            patience for; false where it was stopped.

        Raises
        ------
        InputError
            If the loss is no longer finite or the disk is full; the last good checkpoint stays.
        TeamBroken
            If one of the team does not answer any more; it can be run again, with another team.
        """
        threads = Threads(told, choosing=self.team.alone)
        before, broken = self._training_state(), ""
        try:
            self._meet()
            for epoch in range(self.progress.epoch, self.settings.all_epochs):
                if self._out_of_patience():
                    break
                before = self._training_state()
                report = self._one_epoch(epoch, on_step, should_stop, threads)
                if report is None:
                    self._restore(before)
                    self._save()
                    return False
                if self.team.rank == 0:
                    on_epoch(report)
                self._save(report)
        except RuntimeError as error:
            if self.team.alone:
                raise
            self._restore(before)
            broken = first_line(error)
        finally:
            threads.close()
            # It holds the connections to the others.
            self._stepping = self.network
        if broken:
            # Only now, without what the fault holds: the others learn of it when the connections close.
            raise TeamBroken(broken)
        return True

    def _meet(self) -> None:
        """Everybody goes on from what the first has."""
        set_norms(self.network, nn.BatchNorm2d if self.team.alone else TeamNorm)
        if not self.team.alone:
            state, self.progress = self.team.given((self._training_state(), self.progress))
            self._restore(state)
        self._stepping = self.team.stepping(self.network)

    def keep(self) -> None:
        """Keep where it stands as the checkpoint to go on from. Raises `InputError` if the disk is full."""
        self._save()

    def close(self) -> None:
        """Remove the decoded pictures from the disk."""
        self.training_pictures.close()
        self._validation.close()

    def _out_of_patience(self) -> bool:
        waited = self.progress.epoch - self.progress.best_epoch
        return 0 < self.settings.patience <= waited

    def _one_epoch(
        self,
        epoch: int,
        on_step: Callable[[int, float], None],
        should_stop: Callable[[], bool],
        threads: Threads,
    ) -> EpochReport | None:
        started, seen = time.monotonic(), 0
        sums = np.zeros(3)
        steps = self.training_pictures.steps
        whole = epoch >= self.settings.all_epochs * (1 - WHOLE_PICTURES)
        self.network.train()
        self._frozen.eval()
        rate = 0.0
        share = self.team.share(self.settings.batch)
        for number, batch in enumerate(self.training_pictures.epoch(epoch, whole, share)):
            step = epoch * steps + number
            rate = learning_rate(self.settings, step, steps)
            begun = time.monotonic()
            parts = self._one_step(batch, rate, step, epoch, number)
            threads.took(time.monotonic() - begun)
            sums += parts
            seen += self.settings.batch
            on_step(step + 1, float(parts.sum()))
            if self.team.agreed(should_stop()):
                return None
        speed = seen / max(1e-9, time.monotonic() - started)
        validation = self.validate()
        score = {"map": validation.map, "map50": validation.map50, "loss": -validation.loss}
        best = self.progress.best_score is None or score[self.settings.best_by] > self.progress.best_score
        self.progress = replace(self.progress, epoch=epoch + 1)
        if best:
            self.progress = replace(
                self.progress,
                best_score=score[self.settings.best_by],
                best_map=validation.map,
                best_map50=validation.map50,
                best_epoch=epoch + 1,
            )
        self._last_validation = validation
        box, objectness, classes = (sums / steps).tolist()
        seconds = time.monotonic() - started
        return EpochReport(epoch + 1, box, objectness, classes, rate, speed, seconds, validation, best)

    def _one_step(self, batch: Batch, rate: float, step: int, epoch: int, number: int) -> np.ndarray:
        for group in self._optimizer.param_groups:
            group["lr"] = rate
        losses = self._losses(batch)
        own = [part.item() for part in (losses.box, losses.objectness, losses.classes)]
        parts = self.team.total(own)
        if not np.isfinite(parts).all():
            name = ("box", "objectness", "class")[int((~np.isfinite(parts)).argmax())]
            raise InputError(self._broken(f"the {name} loss", batch, epoch, number))
        self._optimizer.zero_grad(set_to_none=True)
        # The team's gradient is the mean of everybody's; that of the whole batch is their sum.
        torch.autograd.backward(losses.total * self.team.size)
        norm = nn.utils.clip_grad_norm_(self.network.parameters(), LARGEST_GRADIENT)
        if not math.isfinite(float(norm)):
            raise InputError(self._broken("the gradient", batch, epoch, number))
        self._optimizer.step()
        self._follow(step)
        return parts

    def _losses(self, batch: Batch) -> Losses:
        with torch.autocast(self.device.type, torch.bfloat16, enabled=self._bfloat16):
            outputs = self._stepping(as_input(batch.pixels, self.device, batch.light))
        return detection_loss(
            outputs, batch.truths, self.anchors, STRIDES, REACH, self._weights,
            lambda positives: float(self.team.total(positives)),
        )  # fmt: skip

    @property
    def _bfloat16(self) -> bool:
        return self.progress.number_format == "bfloat16"

    def _broken(self, what: str, batch: Batch, epoch: int, number: int) -> str:
        pictures = [index for part in self.team.gathered(batch.pictures) for index in part]
        names = [self._names[index] for index in pictures]
        shown = ", ".join(dict.fromkeys(names[:6])) + (" and more" if len(names) > 6 else "")
        return (
            f"{what} is no longer a finite number in epoch {epoch + 1}, batch {number + 1} "
            f"(pictures {shown}); try a learning rate below {self.settings.learning_rate:g}. "
            "The last good checkpoint is kept."
        )

    @torch.no_grad()
    def _follow(self, step: int) -> None:
        """Moving average of the weights, quick at first."""
        keep = self.settings.average * (1 - math.exp(-(step + 1) / 40))
        # Untyped in torch.
        follow: Callable[..., None] = get_ema_multi_avg_fn(keep)  # type: ignore[no-untyped-call]
        follow(*self._followed, step)

    def validate(self) -> Validation:
        """Losses and mAP of the averaged weights on the validation pictures. Changes no weight."""
        card = self.card({})
        figures, self.last_found = validate(
            self.average, card, self._validation, self._weights, self.device, self._bfloat16,
            self.settings.calibrate, self.team,
        )  # fmt: skip
        return figures

    def card(self, metrics: dict[str, object]) -> ModelCard:
        """What the bundle will say."""
        return ModelCard(
            size=self.settings.size,
            classes=self.class_names,
            side=self.settings.side,
            anchors=[[(float(w), float(h)) for w, h in level] for level in self.anchors],
            reach=REACH,
            padding=self.padding,
            white=self._white,
            snapshot=self._snapshot,
            training=self.settings.as_record()
            | {
                "steps": self.total_steps,
                "number_format": self.progress.number_format,
                "threads": torch.get_num_threads(),
                "torch": torch.__version__,
            },
            metrics=metrics,
        )

    def _save(self, report: EpochReport | None = None) -> None:
        """Keep the state after an epoch, with the bundles that are due.

        The checkpoint comes last: whatever fails before, the epoch is trained again from the
        checkpoint before it.
        """
        if self.team.rank:
            return
        with self.keeping():
            if report is not None:
                if report.best:
                    self._write_bundle("best.zip", report.validation)
                if self.settings.keep_every and report.epoch % self.settings.keep_every == 0:
                    self._write_bundle(f"epoch-{report.epoch:05}.zip", report.validation)
                self._write_bundle("latest.zip", report.validation)
            save_checkpoint(self.checkpoint_path, self.network, self.average, self._optimizer, self.progress)

    @contextmanager
    def keeping(self) -> Iterator[None]:
        """Say of a disk that takes no more what it means for the training."""
        try:
            yield
        except OSError as error:
            raise InputError(
                f"epoch {self.progress.epoch} could not be kept in {self.folder}: {error.strerror or error}. "
                "The last good checkpoint is kept; make room and resume."
            ) from None

    def _write_bundle(self, name: str, validation: Validation) -> None:
        metrics: dict[str, object] = {
            "epoch": self.progress.epoch,
            "map50": validation.map50,
            "map": validation.map,
            "classes": validation.by_class,
            "validation_loss": validation.loss,
            "pictures": len(self._validation.pictures),
        }
        with replacing(self.folder / name) as temporary:
            card = self.card(metrics).model_copy(
                update={"minimum_score": validation.minimum_score, "calibration": validation.calibration}
            )
            write_bundle(temporary, card, self.average.state_dict())

    def _training_state(self) -> tuple[State, State, State]:
        return copy.deepcopy(
            (self.network.state_dict(), self.average.state_dict(), self._optimizer.state_dict())
        )

    def _restore(self, state: tuple[State, State, State]) -> None:
        network, average, optimizer = state
        self.network.load_state_dict(network)
        self.average.load_state_dict(average)
        self._optimizer.load_state_dict(optimizer)


def white_of_all(pictures: Sequence[LabelledPicture]) -> float | None:
    """What is white in pictures of more than 8 bits, where it is the same in all of them."""
    whites = {picture.white for picture in pictures if picture.white is not None}
    return whites.pop() if len(whites) == 1 else None


def _kept_card(folder: Path) -> ModelCard | None:
    """What a training that is resumed in this folder began with: its anchors and padding stay what they are."""
    try:
        return read_bundle_parts(folder / "latest.zip")[0]
    except InputError:
        return None


def _optimizer(network: nn.Module, settings: Settings) -> torch.optim.Optimizer:
    """Weight decay for convolution kernels only, not for biases and normalisations."""
    trained = [parameter for parameter in network.parameters() if parameter.requires_grad]
    groups = [
        {"params": [each for each in trained if each.ndim > 1], "weight_decay": settings.weight_decay},
        {"params": [each for each in trained if each.ndim <= 1], "weight_decay": 0.0},
    ]
    if settings.optimizer == "sgd":
        return torch.optim.SGD(groups, lr=settings.learning_rate, momentum=0.9, nesterov=True)
    return torch.optim.AdamW(groups, lr=settings.learning_rate, betas=(0.9, 0.99), fused=True)
