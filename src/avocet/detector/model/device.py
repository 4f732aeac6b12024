"""Where the network is computed, and in which number format."""

import os
import time
from functools import lru_cache

import torch
from torch import Tensor, nn

from avocet.core.errors import InputError

WORTH_IT = 1.1
"""bfloat16 is taken where it is this many times faster than float32."""


def chosen_device() -> torch.device:
    """The device that the environment variable ``AVOCET_DEVICE`` names, else a GPU where torch finds one.

    Raises
    ------
    InputError
        If the variable names a device that is not there.

    Examples
    --------
    >>> os.environ["AVOCET_DEVICE"] = "cpu"
    >>> chosen_device()
    device(type='cpu')
    """
    wanted = os.environ.get("AVOCET_DEVICE", "").strip()
    if not wanted:
        return torch.device("cuda" if torch.cuda.is_available() else "cpu")
    try:
        device = torch.device(wanted)
        torch.zeros(1, device=device)
    except (RuntimeError, AssertionError, NotImplementedError) as error:
        reason = str(error).splitlines()[0]
        raise InputError(f"AVOCET_DEVICE is {wanted!r}, which cannot be used here: {reason}") from None
    return device


@lru_cache(maxsize=4)
def bfloat16_pays(device: torch.device) -> bool:
    """Whether bfloat16 is faster than float32 here, measured on a convolution where it is native at all."""
    if not _native(device):
        return False
    layer = nn.Conv2d(64, 64, 3, padding=1).to(device)
    held = torch.zeros(4, 64, 52, 52, device=device).to(memory_format=torch.channels_last)
    seconds = {True: _seconds(layer, held, True), False: _seconds(layer, held, False)}
    return seconds[False] > WORTH_IT * seconds[True]


def _native(device: torch.device) -> bool:
    if device.type == "cuda":
        return bool(torch.cuda.is_bf16_supported())
    checks = ("_is_avx512_bf16_supported", "_is_amx_tile_supported")
    return any(getattr(torch.cpu, check, lambda: False)() for check in checks)


@torch.inference_mode()
def _seconds(layer: nn.Module, held: Tensor, bfloat16: bool) -> float:
    times = []
    for _ in range(6):
        started = time.perf_counter()
        with torch.autocast(held.device.type, torch.bfloat16, enabled=bfloat16):
            layer(held).float().sum().item()
        times.append(time.perf_counter() - started)
    return min(times[1:])
