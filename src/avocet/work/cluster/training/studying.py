"""A study over the machines of a cluster: each of its trainings is a task of one core, on whichever is free."""

import tempfile
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import torch

from avocet.core.errors import InputError
from avocet.detector.training.settings import Settings
from avocet.store.folder import DataFolder
from avocet.store.tables import Study
from avocet.work.cluster.joining import Cluster, joined
from avocet.work.cluster.shipping import ShippedFile
from avocet.work.cluster.training.pictures import HoldsPictures, PicturePost, ShippedPictures
from avocet.work.progress import Reporter, Stopped
from avocet.work.snapshots.frozen import Frozen
from avocet.work.train.planned import Measured, Planned, settings_of, train_planned

TRIES = 3
"""Machines that may die over one training before it counts as failed."""

MEMORY = 1_200_000_000
"""Bytes that a training of one core needs; a machine with less for each core has fewer at once."""

LOOKS = 1.0
"""Seconds between two looks at how far they are."""


def last_line(error: BaseException) -> str:
    """What Ray says of a death; the lines before are where it was."""
    return (str(error).strip() or type(error).__name__).splitlines()[-1].strip()


class Student:
    """Does one training of a study.

    Parameters
    ----------
    shipped : ShippedPictures
    settings : Settings
    steps : int
    classes : sequence of str
    """

    def __init__(
        self, shipped: ShippedPictures, settings: Settings, steps: int, classes: Sequence[str]
    ) -> None:
        self._pictures, self._settings, self._steps, self._classes = (
            HoldsPictures(shipped),
            settings,
            steps,
            classes,
        )
        self._step = 0

    def sees_files(self) -> bool:
        """As `HoldsPictures.sees_files`."""
        return self._pictures.sees_files()

    def take(self, files: Mapping[int, ShippedFile]) -> None:
        """As `HoldsPictures.take`."""
        self._pictures.take(files)

    def train(self, wanted: Planned) -> Measured:
        """The training, to its end. Raises `InputError` where it fails."""
        torch.set_num_threads(1)
        with tempfile.TemporaryDirectory(prefix="avocet-training-") as place:
            return train_planned(
                self._settings, self._steps, wanted, self._classes,
                self._pictures.training, self._pictures.validation, Path(place), self._on_step, lambda: False,
            )  # fmt: skip

    def step(self) -> int:
        """How far it is; may be asked meanwhile."""
        return self._step

    def _on_step(self, step: int, loss: float) -> None:
        self._step = step


@dataclass
class _UnderWay:
    """A training that waits for a machine, or has one."""

    wanted: Planned
    actor: Any
    told: Any
    tries: int
    trains: Any = None
    step: int = 0
    asked: Any = field(default=None)


def study_together(
    address: str,
    folder: DataFolder,
    study: Study,
    frozen: Frozen,
    left: Sequence[Planned],
    reporter: Reporter,
    on_measured: Callable[[Planned, Measured], None],
    on_failed: Callable[[Planned, str], None],
) -> None:
    """Do what is left of a study on the machines of a cluster; results come in the order in which they end.

    Raises
    ------
    Stopped
        If a person stopped it.
    InputError
        If the cluster cannot be joined, or a picture is gone.
    """
    shipped = ShippedPictures.of(frozen, folder, study.project_id)
    with joined(address) as cluster:
        dealt = _Dealt(cluster, shipped, study, frozen)
        try:
            dealt.finish(left, reporter, on_measured, on_failed)
        finally:
            dealt.close()


class _Dealt:
    """Trainings on the machines of a cluster, each with a process of its own."""

    def __init__(self, cluster: Cluster, shipped: ShippedPictures, study: Study, frozen: Frozen) -> None:
        self._ray, self._post = cluster.ray, PicturePost(cluster.ray, shipped)
        settings, self._steps = settings_of(study)
        self._given = [self._ray.put(each) for each in (shipped, settings)]
        self._classes = frozen.classes
        self._title = f"Study {study.id}"
        self._plan = len(study.plan)
        self._under_way: list[_UnderWay] = []
        self._numbers = 0

    def finish(
        self,
        left: Sequence[Planned],
        reporter: Reporter,
        on_measured: Callable[[Planned, Measured], None],
        on_failed: Callable[[Planned, str], None],
    ) -> None:
        """Until all are measured or have failed."""
        # The largest take longest to begin with: nothing long is left for the end.
        self._under_way = [
            self._started(each, 1) for each in sorted(left, key=lambda each: -each["pictures"])
        ]
        ended = self._plan - len(left)
        pause = threading.Event()
        while self._under_way:
            if reporter.should_stop():
                raise Stopped
            for each in list(self._under_way):
                try:
                    measured = self._looked_at(each)
                except self._ray.exceptions.RayTaskError as error:
                    if not isinstance(error.cause, InputError):
                        raise
                    on_failed(each.wanted, str(error.cause))
                except self._ray.exceptions.RayError as error:
                    if each.tries < TRIES:
                        self._under_way[self._under_way.index(each)] = self._started(
                            each.wanted, each.tries + 1
                        )
                        continue
                    on_failed(each.wanted, f"{TRIES} processes died over it: {last_line(error)}")
                else:
                    if measured is None:
                        continue
                    on_measured(each.wanted, measured)
                self._under_way.remove(each)
                self._ray.kill(each.actor)
                ended += 1
            at_work = [each for each in self._under_way if each.step]
            done = ended * self._steps + sum(min(each.step, self._steps) for each in at_work)
            reporter.progress(
                done, self._plan * self._steps, f"{ended} of {self._plan} done, {len(at_work)} at work"
            )
            pause.wait(LOOKS)

    def close(self) -> None:
        """End those that are under way."""
        for each in self._under_way:
            self._ray.kill(each.actor)

    def _started(self, wanted: Planned, tries: int) -> _UnderWay:
        self._numbers += 1
        actor = (
            self._ray.remote(Student)
            .options(
                name=f"{self._title}#{self._numbers}-{id(self)}",
                num_cpus=1,
                memory=MEMORY,
                # It tells how far it is while it trains.
                max_concurrency=2,
                max_restarts=0,
                max_task_retries=0,
                scheduling_strategy="SPREAD",
            )
            .remote(*self._given, self._steps, self._classes)
        )
        return _UnderWay(wanted, actor, actor.sees_files.remote(), tries)

    def _looked_at(self, each: _UnderWay) -> Measured | None:
        """What it measured, if it is done; raises what became of it."""
        if each.trains is None:
            if not self._is_there(each.told):
                return None
            if not self._ray.get(each.told):
                self._post.send([each.actor])
            each.trains = each.actor.train.remote(each.wanted)
        if self._is_there(each.trains):
            found: Measured = self._ray.get(each.trains)
            return found
        if each.asked is None:
            each.asked = each.actor.step.remote()
        elif self._is_there(each.asked):
            each.step, each.asked = self._ray.get(each.asked), None
        return None

    def _is_there(self, asked: Any) -> bool:
        return bool(self._ray.wait([asked], timeout=0)[0])
