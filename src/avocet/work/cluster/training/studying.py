"""A study over the machines of a cluster: each of its trainings is a task of one core, on whichever is free."""

import shutil
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import torch

from avocet.core.errors import InputError
from avocet.detector.training.settings import Settings
from avocet.work.cluster.joining import Cluster, joined, said_of
from avocet.work.cluster.places import worker_place
from avocet.work.cluster.training.pictures import HoldsPictures, PicturePost, ShippedPictures
from avocet.work.progress import Stopped
from avocet.work.train.planned import Measured, Planned, StudyWork, settings_of, train_planned

TRIES = 3
"""Machines that may die over one training before it counts as failed."""

MEMORY = 1_200_000_000
"""Bytes that a training of one core needs; a machine with less for each core has fewer at once."""

LOOKS = 1.0
"""Seconds between two looks at how far they are."""


class Student(HoldsPictures):
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
        super().__init__(shipped)
        self._settings, self._steps, self._classes = settings, steps, classes
        self._step = 0

    def train(self, wanted: Planned) -> Measured:
        """The training, to its end. Raises `InputError` where it fails."""
        torch.set_num_threads(1)
        place = worker_place()
        try:
            return train_planned(
                self._settings, self._steps, wanted, self._classes,
                self.training, self.validation, place, self._on_step, lambda: False,
            )  # fmt: skip
        finally:
            shutil.rmtree(place, ignore_errors=True)

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
    asked: Any = None


def study_together(address: str, work: StudyWork) -> None:
    """Do what is left of a study on the machines of a cluster; results come in the order in which they end.

    Raises
    ------
    Stopped
        If a person stopped it.
    InputError
        If the cluster cannot be joined, or a picture is gone.
    """
    shipped = ShippedPictures.of(work.frozen, work.folder, work.study.project_id)
    with joined(address) as cluster:
        dealt = _Dealt(cluster, shipped, work)
        try:
            dealt.finish()
        finally:
            dealt.close()


class _Dealt:
    """Trainings on the machines of a cluster, each with a process of its own."""

    def __init__(self, cluster: Cluster, shipped: ShippedPictures, work: StudyWork) -> None:
        self._cluster, self._ray, self._work = cluster, cluster.ray, work
        self._post = PicturePost(cluster.ray, shipped)
        settings, self._steps = settings_of(work.study)
        self._given = (
            *(self._ray.put(each) for each in (shipped, settings)),
            self._steps,
            work.frozen.classes,
        )
        self._under_way: list[_UnderWay] = []

    def finish(self) -> None:
        """Until all are measured or have failed."""
        work, plan = self._work, len(self._work.study.plan)
        # The largest take longest to begin with: nothing long is left for the end.
        largest_first = sorted(work.left, key=lambda each: -each["pictures"])
        self._under_way = [self._started(each, 1) for each in largest_first]
        ended = work.ended
        pause = threading.Event()
        while self._under_way:
            if work.reporter.should_stop():
                raise Stopped
            for each in list(self._under_way):
                try:
                    measured = self._looked_at(each)
                except self._ray.exceptions.RayTaskError as error:
                    if not isinstance(error.cause, InputError):
                        raise
                    work.on_failed(each.wanted, str(error.cause))
                except self._ray.exceptions.RayError as error:
                    if each.tries < TRIES:
                        self._under_way[self._under_way.index(each)] = self._started(
                            each.wanted, each.tries + 1
                        )
                        continue
                    work.on_failed(each.wanted, f"{TRIES} processes died over it: {said_of(error)}")
                else:
                    if measured is None:
                        continue
                    work.on_measured(each.wanted, measured)
                self._under_way.remove(each)
                self._ray.kill(each.actor)
                ended += 1
            at_work = [each for each in self._under_way if each.step]
            done = ended * self._steps + sum(min(each.step, self._steps) for each in at_work)
            work.reporter.progress(
                done, plan * self._steps, f"{ended} of {plan} done, {len(at_work)} at work"
            )
            pause.wait(LOOKS)

    def close(self) -> None:
        """End those that are under way."""
        for each in self._under_way:
            self._ray.kill(each.actor)

    def _started(self, wanted: Planned, tries: int) -> _UnderWay:
        # It tells how far it is while it trains.
        title = f"Study {self._work.study.id}"
        actor = self._cluster.start(Student, title, *self._given, memory=MEMORY, max_concurrency=2)
        return _UnderWay(wanted, actor, actor.sees_files.remote(), tries)

    def _looked_at(self, each: _UnderWay) -> Measured | None:
        """What it measured, if it is done; raises what became of it."""
        if each.trains is None:
            if not self._cluster.is_answered(each.told):
                return None
            if not self._ray.get(each.told):
                self._post.send([each.actor])
            each.trains = each.actor.train.remote(each.wanted)
        if self._cluster.is_answered(each.trains):
            found: Measured = self._ray.get(each.trains)
            return found
        if each.asked is None:
            each.asked = each.actor.step.remote()
        elif self._cluster.is_answered(each.asked):
            each.step, each.asked = self._ray.get(each.asked), None
        return None
