"""The network computed by torch: on a GPU, or where ONNX Runtime is missing; and what training shares with it."""

import numpy as np
import torch
from numpy.typing import NDArray
from torch import Tensor

from avocet.detector.model.device import bfloat16_pays, chosen_device
from avocet.detector.model.network import Network


class TorchEngine:
    """A network computed by torch.

    Parameters
    ----------
    network : Network
        Taken over: its normalisations are folded into its convolutions.
    """

    def __init__(self, network: Network) -> None:
        self.device = chosen_device()
        network.fold()
        self._network = network.to(self.device).to(memory_format=torch.channels_last)  # type: ignore[call-overload]
        self._bfloat16 = bfloat16_pays(self.device)

    @property
    def name(self) -> str:
        return f"torch {torch.__version__.split('+')[0]}, {self.device.type}" + (
            " with bfloat16" if self._bfloat16 else ""
        )

    @property
    def side_by_side(self) -> int:
        return 1

    def raw(self, inputs: NDArray[np.uint8]) -> list[NDArray[np.float32]]:
        return forward(self._network, inputs, self.device, self._bfloat16)

    def raw_beside(self, inputs: NDArray[np.uint8]) -> list[NDArray[np.float32]]:
        return self.raw(inputs)


@torch.inference_mode()
def forward(
    network: Network, inputs: NDArray[np.uint8], device: torch.device, bfloat16: bool
) -> list[NDArray[np.float32]]:
    """Run a network on uint8 inputs without keeping gradients."""
    with torch.autocast(device.type, torch.bfloat16, enabled=bool(bfloat16)):
        outputs = network(as_input(inputs, device))
    return [level.float().cpu().numpy() for level in outputs]


def as_input(
    pixels: NDArray[np.uint8], device: torch.device, light: NDArray[np.float32] | None = None
) -> Tensor:
    """(B, H, W, 3) uint8 pixels as the network's (B, 3, H, W) float input in channels-last memory.

    ``light`` has (B, 3) factors for red, green and blue.
    """
    values = torch.from_numpy(pixels).to(device).permute(0, 3, 1, 2).float()
    if light is None:
        return values.div_(255)
    factors = torch.from_numpy(light).to(device)[:, :, None, None] / 255
    return values.mul_(factors).clamp_(max=1)
