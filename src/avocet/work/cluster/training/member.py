"""What runs on each other machine of a training: its share of every batch."""

import os
import socket
import tempfile
from collections.abc import Mapping, Sequence
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
from avocet.work.cluster.shipping import ShippedFile
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


def shipped_training(
    training: Training, frozen: Frozen, folder: DataFolder, project_id: int
) -> ShippedTraining:
    """A training of a snapshot. Raises `InputError` if a picture is gone."""
    pictures = ShippedPictures.of(frozen, folder, project_id)
    return ShippedTraining(training.settings.as_record(), frozen.classes, training.card({}), pictures)


class TeamMember:
    """One machine of a training, other than the first.

    Parameters
    ----------
    shipped : ShippedTraining
    threads : int
        For its steps.
    """

    def __init__(self, shipped: ShippedTraining, threads: int) -> None:
        self._shipped, self._threads = shipped, threads
        self._pictures = HoldsPictures(shipped.pictures)

    def device(self) -> str:
        """Whether it would train on ``cpu`` or ``cuda``."""
        return chosen_device().type

    def sees_files(self) -> bool:
        """As `HoldsPictures.sees_files`."""
        return self._pictures.sees_files()

    def take(self, files: Mapping[int, ShippedFile]) -> None:
        """As `HoldsPictures.take`."""
        self._pictures.take(files)

    def train(self, host: str, port: int, rank: int, size: int, patience: float) -> bool:
        """Take part until all are done or stop. Raises what `Training.run` raises."""
        torch.set_num_threads(self._threads)
        with tempfile.TemporaryDirectory(prefix="avocet-training-") as place:
            training = Training(
                settings_from(self._shipped.settings),
                self._shipped.classes,
                self._pictures.training,
                self._pictures.validation,
                Path(place),
                begun_as=self._shipped.card,
            )
            talk_over_network_of(host)
            try:
                with team_at(host, port, rank, size, training.device, patience) as training.team:
                    return training.run(lambda report: None)
            finally:
                training.close()


def talk_over_network_of(host: str) -> None:
    """Let torch talk to the others over the network that the first is on; by itself it may take another one.

    Parameters
    ----------
    host : str
        Address of the first.
    """
    if network := _network_towards(host, _networks()):
        os.environ["GLOO_SOCKET_IFNAME"] = os.environ["NCCL_SOCKET_IFNAME"] = network


def _networks() -> dict[str, list[str]]:
    """Addresses of this machine by the network that they are on."""
    return {name: [each.address for each in some] for name, some in psutil.net_if_addrs().items()}


def _network_towards(host: str, networks: Mapping[str, Sequence[str]]) -> str | None:
    """The network by which a host is reached: that of the address that would be spoken from."""
    with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET, socket.SOCK_DGRAM) as asked:
        try:
            # Sends nothing; the system chooses the address.
            asked.connect((host, 9))
        except OSError:
            return None
        own = asked.getsockname()[0]
    return next((name for name, addresses in networks.items() if own in addresses), None)
