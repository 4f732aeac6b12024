"""Checkpoints: all that a training needs to go on, as one safetensors file."""

import json
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

import safetensors
import safetensors.torch
import torch
from torch import Tensor, nn

from avocet.core.errors import InputError
from avocet.files import write_bytes


@dataclass(frozen=True)
class Progress:
    """Where a training stands.

    Attributes
    ----------
    epoch : int
        Finished epochs.
    best_score : float
        Of the best epoch by the chosen measure, greater is better; None before the first.
    best_map, best_map50 : float
        Of that epoch.
    best_epoch : int
    number_format : str
        In which it began, and goes on.
    """

    epoch: int = 0
    best_score: float | None = None
    best_map: float = 0.0
    best_map50: float = 0.0
    best_epoch: int = 0
    number_format: str = "float32"


def save_checkpoint(
    path: Path, network: nn.Module, average: nn.Module, optimizer: torch.optim.Optimizer, progress: Progress
) -> None:
    """Write network, averaged network, optimizer and progress, replacing the file at once."""
    tensors: dict[str, Tensor] = {}
    for prefix, module in (("network", network), ("average", average)):
        tensors |= {f"{prefix}.{name}": value.contiguous() for name, value in module.state_dict().items()}
    for index, state in optimizer.state_dict()["state"].items():
        tensors |= {
            f"optimizer.{index}.{name}": torch.as_tensor(value).contiguous() for name, value in state.items()
        }
    write_bytes(path, safetensors.torch.save(tensors, metadata={"progress": json.dumps(vars(progress))}))


def load_checkpoint(
    path: Path, network: nn.Module, average: nn.Module, optimizer: torch.optim.Optimizer
) -> Progress:
    """Read a checkpoint back into network, averaged network and optimizer.

    Raises
    ------
    InputError
        If the file is damaged or belongs to another network.
    """
    try:
        with safetensors.safe_open(path, framework="pt") as opened:
            metadata = json.loads((opened.metadata() or {})["progress"])
            tensors = {key: opened.get_tensor(key) for key in opened.keys()}  # noqa: SIM118 (no iterator)
        for prefix, module in (("network", network), ("average", average)):
            module.load_state_dict(_below(prefix, tensors))
        states: dict[int, dict[str, Any]] = {}
        for key, value in _below("optimizer", tensors).items():
            index, name = key.split(".")
            states.setdefault(int(index), {})[name] = value
        optimizer.load_state_dict({"state": states, "param_groups": optimizer.state_dict()["param_groups"]})
        _lay_out_alike(optimizer)
        known = {each.name for each in fields(Progress)}
        return Progress(**{name: value for name, value in metadata.items() if name in known})
    except (safetensors.SafetensorError, KeyError, TypeError, ValueError, RuntimeError, OSError) as error:
        raise InputError(f"checkpoint {path.name} cannot be read: {str(error).splitlines()[0]}") from None


def _lay_out_alike(optimizer: torch.optim.Optimizer) -> None:
    """Lay what the optimiser keeps of each weight out in memory as the weight itself is.

    A fused optimiser goes through both in the order of memory.
    """
    for weight, state in optimizer.state.items():
        for name, value in state.items():
            if isinstance(value, Tensor) and value.shape == weight.shape:
                state[name] = torch.empty_like(weight).copy_(value)


def _below(prefix: str, tensors: dict[str, Tensor]) -> dict[str, Tensor]:
    return {key[len(prefix) + 1 :]: value for key, value in tensors.items() if key.startswith(prefix + ".")}
