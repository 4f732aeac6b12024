"""The model bundle: one zip with ``model.json`` and ``weights.safetensors``."""

from pathlib import Path

import safetensors.torch
import torch
from safetensors import SafetensorError

from avocet.core.errors import InputError
from avocet.detector.model.card import CARD, WEIGHTS, ModelCard, read_bundle_parts, write_bundle_parts
from avocet.detector.model.network import Network
from avocet.detector.model.sizes import size_named


def write_bundle(path: Path, card: ModelCard, weights: dict[str, torch.Tensor]) -> None:
    """Write a bundle.

    Parameters
    ----------
    path : Path
        The caller renames it into place when all went well.
    card : ModelCard
    weights : dict of str to tensor
        The network's state.
    """
    write_bundle_parts(
        path, card, safetensors.torch.save({key: value.contiguous() for key, value in weights.items()})
    )


def read_bundle(path: Path) -> tuple[ModelCard, Network]:
    """Read a bundle and build its network.

    Raises
    ------
    InputError
        If the file is no bundle, is damaged, or comes from a newer format.
    """
    card, content = read_bundle_parts(path)
    network = Network(size_named(card.size), len(card.classes), [len(level) for level in card.anchors])
    try:
        network.load_state_dict(safetensors.torch.load(content))
    except (SafetensorError, RuntimeError, KeyError, ValueError) as error:
        reason = str(error).splitlines()[0]
        raise InputError(f"{path.name}: {WEIGHTS} does not fit {CARD}: {reason}") from None
    network.eval()
    return card, network
