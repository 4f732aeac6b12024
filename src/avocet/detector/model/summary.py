"""What a size costs: parameters, multiply-adds, memory and measured time, layer by layer."""

import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import torch
from torch import Tensor, nn

from avocet.detector.engines.torch_engine import forward
from avocet.detector.model.device import bfloat16_pays, chosen_device
from avocet.detector.model.network import ConvUnit, Network
from avocet.detector.model.sizes import size_named

TIMED = 5
"""Runs that are timed; the median counts."""


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


def summarise(size: str, side: int, classes: int) -> Summary:
    """Take a network apart and time it.

    Parameters
    ----------
    size : str
    side : int
        Of a square input in pixels, a multiple of 32.
    classes : int

    Returns
    -------
    Summary

    Raises
    ------
    InputError
        If there is no such size.

    Examples
    --------
    >>> summary = summarise("stint", 96, 2)
    >>> summary.layers[0].output, summary.layers[0].multiply_adds == 48 * 48 * 16 * 3 * 9
    ((16, 48, 48), True)
    """
    network = Network(size_named(size), classes).eval()
    layers: list[Layer] = []
    hooks = []
    for name, module in network.named_modules():
        if isinstance(module, (ConvUnit, nn.Conv2d)) and not name.endswith(".conv"):
            hooks.append(module.register_forward_hook(_noter(name, layers)))
    with torch.inference_mode():
        network(torch.zeros(1, 3, side, side))
    for hook in hooks:
        hook.remove()
    device = chosen_device()
    network.fold()
    quick = network.to(device).to(memory_format=torch.channels_last)  # type: ignore[call-overload]
    picture = np.zeros((1, side, side, 3), dtype=np.uint8)
    times = []
    for _ in range(TIMED + 1):
        started = time.perf_counter()
        forward(quick, picture, device, bfloat16_pays(device))
        times.append(time.perf_counter() - started)
    return Summary(
        layers,
        sum(layer.parameters for layer in layers),
        sum(layer.multiply_adds for layer in layers),
        1000 * float(np.median(times[1:])),
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
        work = rows * columns * channels * conv.in_channels * kernel * kernel
        count = sum(each.numel() for each in module.parameters())
        layers.append(Layer(name, kind, (channels, rows, columns), count, work))

    return note
