"""What sizes cost: parameters, multiply-adds, memory and measured time, layer by layer."""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import torch
from torch import Tensor, nn

from avocet.detector.engines.torch_engine import forward
from avocet.detector.model.device import bfloat16_pays, chosen_device
from avocet.detector.model.layers import ConvUnit
from avocet.detector.model.network import Network
from avocet.detector.model.sizes import size_named

TIMED = 7
"""Pictures that each size is timed with; the median counts."""


@dataclass(frozen=True)
class Layer:
    """One layer.

    Attributes
    ----------
    name, kind : str
    output : tuple of int
        Channels, rows, columns.
    parameters : int
    multiply_adds : int
        For one picture.
    """

    name: str
    kind: str
    output: tuple[int, int, int]
    parameters: int
    multiply_adds: int


@dataclass(frozen=True)
class Summary:
    """A size at a side.

    Attributes
    ----------
    layers : list of Layer
    parameters, multiply_adds : int
    milliseconds : float
        Median of one square picture on this machine.
    activations : int
        Bytes of all layers' outputs for one picture: what training holds.
    """

    layers: list[Layer]
    parameters: int
    multiply_adds: int
    milliseconds: float
    activations: int


def summarise(
    sizes: Sequence[str],
    side: int,
    classes: int,
    on_round: Callable[[int, int], None] = lambda done, rounds: None,
) -> dict[str, Summary]:
    """Take networks apart and time them in turns, so that other work on the machine slows them all alike.

    Parameters
    ----------
    sizes : sequence of str
    side : int
        Of a square input in pixels, a multiple of 32.
    classes : int
    on_round : callable
        Told after each round of pictures how many are done, of how many; what it raises ends the timing.

    Returns
    -------
    dict of str to Summary

    Raises
    ------
    InputError
        If there is no such size.

    Examples
    --------
    >>> summary = summarise(["stint"], 96, 2)["stint"]
    >>> summary.layers[0].output, summary.layers[0].multiply_adds == 48 * 48 * 16 * 3 * 9
    ((16, 48, 48), True)
    """
    networks = {name: Network(size_named(name), classes).eval() for name in sizes}
    layers = {name: _layers(network, side) for name, network in networks.items()}
    device = chosen_device()
    for network in networks.values():
        network.fold()
        network.to(device).to(memory_format=torch.channels_last)  # type: ignore[call-overload]
    picture = np.zeros((1, side, side, 3), dtype=np.uint8)
    times: dict[str, list[float]] = {name: [] for name in sizes}
    for done in range(TIMED + 1):
        for name, network in networks.items():
            started = time.perf_counter()
            forward(network, picture, device, bfloat16_pays(device))
            times[name].append(time.perf_counter() - started)
        on_round(done + 1, TIMED + 1)
    # The first picture of each warms up.
    return {name: _summed(layers[name], 1000 * float(np.median(times[name][1:]))) for name in sizes}


def _layers(network: Network, side: int) -> list[Layer]:
    """The layers in the order in which a picture goes through them."""
    layers: list[Layer] = []
    hooks = []
    for name, module in network.named_modules():
        if isinstance(module, (ConvUnit, nn.Conv2d)) and not name.endswith(".conv"):
            hooks.append(module.register_forward_hook(_noter(name, layers)))
    with torch.inference_mode():
        network(torch.zeros(1, 3, side, side))
    for hook in hooks:
        hook.remove()
    return layers


def _summed(layers: list[Layer], milliseconds: float) -> Summary:
    return Summary(
        layers,
        sum(layer.parameters for layer in layers),
        sum(layer.multiply_adds for layer in layers),
        milliseconds,
        # Each unit keeps its convolution's, its normalisation's and its activation's output.
        sum(3 * 4 * int(np.prod(layer.output)) for layer in layers),
    )


def _noter(name: str, layers: list[Layer]) -> Callable[[nn.Module, tuple[Tensor, ...], Tensor], None]:
    def note(module: nn.Module, inputs: tuple[Tensor, ...], output: Tensor) -> None:
        conv = module.conv if isinstance(module, ConvUnit) else module
        assert isinstance(conv, nn.Conv2d)
        channels, rows, columns = output.shape[1:]
        kernel, stride = conv.kernel_size[0], conv.stride[0]
        kind = f"{kernel}×{kernel}" + (f", stride {stride}" if stride > 1 else "")
        kind += ", by channel" if conv.groups > 1 else ""
        work = rows * columns * channels * (conv.in_channels // conv.groups) * kernel * kernel
        count = sum(each.numel() for each in module.parameters())
        layers.append(Layer(name, kind, (channels, rows, columns), count, work))

    return note
