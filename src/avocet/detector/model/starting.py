"""Starting weights: taking over from another model what fits."""

from dataclasses import dataclass
from pathlib import Path

import safetensors.torch
import torch
from torch import Tensor

from avocet.core.errors import InputError
from avocet.detector.model.card import read_bundle_parts
from avocet.detector.model.network import Network

PARTS = {"stem": "backbone", "stages": "backbone", "lateral": "neck", "smooth": "neck", "heads": "outputs"}
BOX_VALUES = 5
"""t_x, t_y, t_w, t_h and objectness of an anchor come before its classes."""


@dataclass(frozen=True)
class Transfer:
    """What was taken over from starting weights.

    Attributes
    ----------
    taken, new : dict of str to int
        Weights taken over and weights that begin anew, by part: backbone, neck, outputs.
    known, unknown : list of str
        Classes whose outputs were taken over, and classes that are new.
    """

    taken: dict[str, int]
    new: dict[str, int]
    known: list[str]
    unknown: list[str]

    @property
    def share(self) -> float:
        """Share of all weights that were taken over."""
        taken, new = sum(self.taken.values()), sum(self.new.values())
        return taken / max(1, taken + new)

    def in_words(self) -> str:
        """One or two sentences for the page and the command line."""
        parts = [
            name if not self.new.get(name) else f"{count / (count + self.new[name]):.0%} of the {name}"
            for name, count in self.taken.items()
            if count and name != "outputs"
        ]
        if self.taken.get("outputs"):
            parts.append("where boxes are")
        share = "All" if self.share == 1 else f"{min(99, round(100 * self.share))} %"
        named = f"{', '.join(parts[:-1])} and {parts[-1]}" if len(parts) > 1 else "".join(parts)
        said = [f"{share} of the weights are taken over: {named}"]
        if self.known:
            said.append(f"Known classes: {', '.join(self.known)}")
        if self.unknown:
            said.append(f"New classes: {', '.join(self.unknown)}")
        return f"{'. '.join(said)}."


@dataclass(frozen=True)
class StartingWeights:
    """Weights to start from: what to call them, the size and classes they were made for, tensors."""

    name: str
    size: str
    classes: list[str]
    tensors: dict[str, Tensor]


def weights_of_bundle(path: Path, called: str = "") -> StartingWeights:
    """The weights of a model bundle. Raises `InputError` if it is none, or is damaged.

    ``called`` is the name that the person knows it by, where the file has another.
    """
    called = called or path.name
    try:
        card, content = read_bundle_parts(path)
    except InputError as error:
        raise InputError(str(error).replace(path.name, called)) from None
    try:
        tensors = safetensors.torch.load(content)
    except (safetensors.SafetensorError, ValueError, KeyError) as error:
        raise InputError(f"{called}: its weights cannot be read: {error}") from None
    return StartingWeights(called, card.size, card.classes, tensors)


def take_weights(network: Network, classes: list[str], weights: StartingWeights) -> Transfer:
    """Fill a network with what fits of other weights; the rest stays as it is.

    A tensor is taken over where it has the same name and shape. Of the outputs, what says where
    boxes are is taken over for every anchor, and the output of every class that the weights know
    by the same name, so that classes may be more, fewer or in another order.

    Parameters
    ----------
    network : Network
        Changed in place.
    classes : list of str
        Of the network's outputs.
    weights : StartingWeights

    Returns
    -------
    Transfer

    Raises
    ------
    InputError
        If nothing fits.
    """
    known = [name for name in classes if name in weights.classes]
    source = [weights.classes.index(name) for name in known]
    target = [classes.index(name) for name in known]
    taken, new = dict.fromkeys(PARTS.values(), 0), dict.fromkeys(PARTS.values(), 0)
    with torch.no_grad():
        for name, mine in network.state_dict().items():
            if not mine.dtype.is_floating_point:
                continue
            part, theirs = PARTS[name.split(".")[0]], weights.tensors.get(name)
            if part == "outputs" and theirs is not None:
                count = _take_outputs(mine, theirs, len(classes), len(weights.classes), target, source)
            elif theirs is not None and theirs.shape == mine.shape and theirs.isfinite().all():
                mine.copy_(theirs)
                count = mine.numel()
            else:
                count = 0
            taken[part] += count
            new[part] += mine.numel() - count
    if not taken["backbone"] and not taken["neck"]:
        raise InputError(
            f"{weights.name} is a {weights.size.capitalize()}; nothing of it fits. "
            "Choose the same size to start from it."
        )
    outputs = taken["outputs"] > 0
    return Transfer(
        taken, new, known if outputs else [], [each for each in classes if each not in known or not outputs]
    )


def _take_outputs(
    mine: Tensor, theirs: Tensor, classes: int, their_classes: int, target: list[int], source: list[int]
) -> int:
    """Copy the outputs for boxes and for common classes; returns how many values.

    Where a level has more or fewer anchors than it had, each takes those of the one of like rank in size.
    """
    rest, values = mine.shape[1:], BOX_VALUES + their_classes
    if theirs.shape[1:] != rest or len(theirs) == 0 or len(theirs) % values:
        return 0
    count, their_count = len(mine) // (BOX_VALUES + classes), len(theirs) // values
    rank = [round(each * (their_count - 1) / max(1, count - 1)) for each in range(count)]
    ours = mine.view(count, BOX_VALUES + classes, *rest)
    given = theirs.view(their_count, values, *rest)[rank]
    ours[:, :BOX_VALUES] = given[:, :BOX_VALUES]
    if target:
        ours[:, [BOX_VALUES + each for each in target]] = given[:, [BOX_VALUES + each for each in source]]
    return int(ours[:, : BOX_VALUES + len(target)].numel())
