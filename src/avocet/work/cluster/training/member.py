"""What runs on each other machine of a training: its share of every batch."""

import os
import shutil
import socket
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psutil
import torch

from avocet.detector.model.card import ModelCard
from avocet.detector.model.device import chosen_device
from avocet.detector.training.settings import settings_from
from avocet.detector.training.team import team_at
from avocet.detector.training.trainer import Training
from avocet.store.folder import DataFolder
from avocet.work.cluster.places import worker_place
from avocet.work.cluster.training.pictures import HoldsPictures, ShippedPictures
from avocet.work.snapshots.frozen import Frozen


@dataclass(frozen=True)
class ShippedTraining:
    """A training as another machine begins it: with the anchors and the padding of the first.

    Attributes
    ----------
    settings : dict
        A `Settings` as its record.
    classes : list of str
    card : ModelCard
    pictures : ShippedPictures
    """

    settings: dict[str, Any]
    classes: list[str]
    card: ModelCard
    pictures: ShippedPictures

    def begun(self, held: HoldsPictures, place: Path) -> Training:
        """The training on the machine that holds the pictures, with a folder of its own."""
        return Training(
            settings_from(self.settings),
            self.classes,
            held.training,
            held.validation,
            place,
            self.card.snapshot,
            begun_as=self.card,
        )


def shipped_training(
    training: Training, frozen: Frozen, folder: DataFolder, project_id: int
) -> ShippedTraining:
    """A training of a snapshot. Raises `InputError` if a picture is gone."""
    pictures = ShippedPictures.of(frozen, folder, project_id)
    return ShippedTraining(training.settings.as_record(), frozen.classes, training.card({}), pictures)


class TeamMember(HoldsPictures):
    """One machine of a training, other than the first.

    Parameters
    ----------
    shipped : ShippedTraining
    threads : int
        For its steps.
    """

    def __init__(self, shipped: ShippedTraining, threads: int) -> None:
        super().__init__(shipped.pictures)
        self._order, self._threads = shipped, threads

    def device(self) -> str:
        """Whether it would train on ``cpu`` or ``cuda``."""
        return chosen_device().type

    def train(self, host: str, port: int, rank: int, size: int, patience: float) -> bool:
        """Take part until all are done or stop. Raises what `Training.run` raises."""
        torch.set_num_threads(self._threads)
        training = self._order.begun(self, worker_place())
        talk_over_network_of(host)
        try:
            with team_at(host, port, rank, size, training.device, patience) as training.team:
                return training.run(lambda report: None)
        finally:
            training.close()
            shutil.rmtree(training.folder, ignore_errors=True)


def talk_over_network_of(host: str) -> None:
    """Let torch talk to the others over the network that the first is on; by itself it may take another one.

    Parameters
    ----------
    host : str
        Address of the first.
    """
    if network := _network_towards(host):
        os.environ["GLOO_SOCKET_IFNAME"] = os.environ["NCCL_SOCKET_IFNAME"] = network


def _network_towards(host: str) -> str | None:
    """The network by which a host is reached: that of the address that would be spoken from."""
    with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET, socket.SOCK_DGRAM) as asked:
        try:
            # Sends nothing; the system chooses the address.
            asked.connect((host, 9))
        except OSError:
            return None
        own = asked.getsockname()[0]
    networks = psutil.net_if_addrs().items()
    return next((name for name, some in networks if any(each.address == own for each in some)), None)
