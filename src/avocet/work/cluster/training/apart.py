"""A training on one machine of a cluster, for which this one only keeps the record: so several go on at once."""

import shutil
import threading
from collections.abc import Callable, Mapping
from typing import Any

import torch

from avocet.core.detections import PictureDetections
from avocet.core.errors import InputError
from avocet.detector.training.checkpoint import Progress
from avocet.detector.training.reports import EpochReport
from avocet.detector.training.team import TeamBroken
from avocet.detector.training.trainer import Training
from avocet.files import write_bytes
from avocet.work.cluster.joining import Cluster, joined, machine_name, said_of
from avocet.work.cluster.places import worker_place
from avocet.work.cluster.training.member import ShippedTraining
from avocet.work.cluster.training.pictures import HoldsPictures, PicturePost

TRIES = 3
"""Machines that may die in one epoch before it is given up."""

LOOKS = 0.5
"""Seconds between two looks at what the other machine has done."""

OnEpoch = Callable[[EpochReport], None]
OnStep = Callable[[int, float], None]
Runs = Callable[[OnEpoch, OnStep, Callable[[], bool], Callable[[str], None]], bool]
"""As `Training.run`."""


class Apprentice(HoldsPictures):
    """Trains on its machine; what it has to tell and the files that it has written wait until they are asked for.

    Parameters
    ----------
    shipped : ShippedTraining
    threads : int
    """

    def __init__(self, shipped: ShippedTraining, threads: int) -> None:
        super().__init__(shipped.pictures)
        self._order, self._threads = shipped, threads
        self._place = worker_place()
        self._lock = threading.Lock()
        self._steps: list[tuple[int, float]] = []
        self._epochs: list[tuple[EpochReport, Progress, list[PictureDetections]]] = []
        self._said: list[str] = []
        self._seen: dict[str, int] = {}
        self._stopping = False

    def machine(self) -> str:
        """The machine that it is on."""
        return machine_name()

    def train(self, checkpoint: bytes) -> bool:
        """Go on from a checkpoint to the end. Raises what `Training.run` raises."""
        torch.set_num_threads(self._threads)
        training = self._order.begun(self, self._place)
        write_bytes(training.checkpoint_path, checkpoint)
        training.resume()

        def on_epoch(report: EpochReport) -> None:
            with self._lock:
                self._epochs.append((report, training.progress, training.last_found))

        def on_step(step: int, loss: float) -> None:
            with self._lock:
                self._steps.append((step, loss))

        try:
            return training.run(on_epoch, on_step, lambda: self._stopping, self._said.append)
        finally:
            training.close()

    def stop(self) -> None:
        """Stop after the step that is under way."""
        self._stopping = True

    def news(self) -> dict[str, Any]:
        """What it has done since it was asked last: steps, epochs, words, and the files that are new since."""
        # First: a checkpoint must not be known of before the epoch that it ends is told.
        files = self._new_files()
        with self._lock:
            steps, self._steps = self._steps, []
            epochs, self._epochs = self._epochs, []
            said, self._said[:] = list(self._said), []
        return {"steps": steps, "epochs": epochs, "said": said, "files": files}

    def close(self) -> None:
        """Remove what was put down."""
        shutil.rmtree(self._place, ignore_errors=True)

    def _new_files(self) -> dict[str, bytes]:
        """Bundles, then the checkpoint: each was put in its place whole."""
        found = {}
        # Those that begin with a dot are still being written.
        for path in sorted(self._place.glob("[!.]*.zip")) + sorted(self._place.glob("[!.]*.safetensors")):
            changed = path.stat().st_mtime_ns
            if self._seen.get(path.name) != changed:
                self._seen[path.name], found[path.name] = changed, path.read_bytes()
        return found


def train_apart(
    address: str,
    training: Training,
    shipped: ShippedTraining,
    title: str,
    told: Callable[[str], None],
    run: Callable[[Runs], bool],
) -> bool:
    """Let one machine of a cluster run a training; another one, from the last epoch, where it dies.

    Parameters
    ----------
    address : str
    training : Training
        That is not run here: its folder gets the files, and it says how far the other one is.
    shipped : ShippedTraining
        The same for the other machine.
    title : str
        What it is started for, as the page tells it.
    told : callable
        Gets sentences for the log.
    run : callable
        Runs it with what does as `Training.run`.

    Returns
    -------
    bool
        As `Training.run`.

    Raises
    ------
    InputError
        What `Training.run` raises, or if the cluster cannot be joined, or machine after machine dies.
    """
    with joined(address) as cluster:
        apart = _Apart(cluster, training, shipped, title)
        tries = 0
        while True:
            began = training.progress.epoch
            try:
                return run(apart.run)
            except TeamBroken as error:
                tries = 1 if training.progress.epoch > began else tries + 1
                if tries == TRIES:
                    raise InputError(f"{TRIES} machines died over one epoch: {error}") from None
                training.resume()
                told(f"The machine does not answer any more; goes on after epoch {training.progress.epoch}")


class _Apart:
    """A training that another machine does."""

    def __init__(self, cluster: Cluster, training: Training, shipped: ShippedTraining, title: str) -> None:
        self._ray, self._cluster, self._training, self._title = cluster.ray, cluster, training, title
        self._sent = self._ray.put(shipped)
        self._post = PicturePost(cluster.ray, shipped.pictures)

    def run(
        self, on_epoch: OnEpoch, on_step: OnStep, should_stop: Callable[[], bool], told: Callable[[str], None]
    ) -> bool:
        """As `Training.run`; raises `TeamBroken` where the machine dies."""
        self._training.keep()
        # What there are whole machines for, however small the smallest is.
        cores = min((each.cores for each in self._cluster.machines() if each.alive and each.cores), default=1)
        given = (self._sent, cores)
        apprentice = self._cluster.start(Apprentice, self._title, *given, cores=cores, max_concurrency=2)
        try:
            return self._watched(apprentice, on_epoch, on_step, should_stop, told)
        except self._ray.exceptions.RayTaskError as error:
            if isinstance(error.cause, InputError):
                raise InputError(str(error.cause)) from None
            raise
        except self._ray.exceptions.RayError as error:
            raise TeamBroken(said_of(error)) from None
        finally:
            self._ray.kill(apprentice)

    def _watched(
        self,
        apprentice: Any,
        on_epoch: OnEpoch,
        on_step: OnStep,
        should_stop: Callable[[], bool],
        told: Callable[[str], None],
    ) -> bool:
        ready = apprentice.machine.remote()
        while not self._cluster.is_answered(ready, LOOKS):
            if should_stop():
                return False
        told(f"Trains on {self._ray.get(ready)}")
        if not self._ray.get(apprentice.sees_files.remote()):
            self._post.send([apprentice])
        trains = apprentice.train.remote(self._training.checkpoint_path.read_bytes())
        stopping = False
        while True:
            ended = self._cluster.is_answered(trains, LOOKS)
            news = self._ray.get(apprentice.news.remote())
            for words in news["said"]:
                told(words)
            self._take(news, on_epoch, on_step)
            if ended:
                done: bool = self._ray.get(trains)
                self._ray.get(apprentice.close.remote())
                return done
            if not stopping and should_stop():
                stopping = True
                apprentice.stop.remote()

    def _take(self, news: Mapping[str, Any], on_epoch: OnEpoch, on_step: OnStep) -> None:
        """Tell of epochs before the checkpoint behind them is kept, as where it is trained."""
        steps = self._training.training_pictures.steps
        epochs = iter(news["epochs"])
        epoch = next(epochs, None)
        for step, loss in news["steps"]:
            if epoch is not None and step > epoch[0].epoch * steps:
                self._told_of(epoch, on_epoch)
                epoch = next(epochs, None)
            on_step(step, loss)
        while epoch is not None:
            self._told_of(epoch, on_epoch)
            epoch = next(epochs, None)
        for name, content in news["files"].items():
            with self._training.keeping():
                write_bytes(self._training.folder / name, content)

    def _told_of(
        self, epoch: tuple[EpochReport, Progress, list[PictureDetections]], on_epoch: OnEpoch
    ) -> None:
        report, self._training.progress, self._training.last_found = epoch
        on_epoch(report)
