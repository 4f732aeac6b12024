"""Starting weights that are shipped with the package, and how they are packed small.

They come from `scripts/starting_weights.py`: each size was trained on rendered scenes of coloured
shapes on patterned grounds. Convolution kernels are kept in 63 levels for each output channel, the
rest in half precision, all compressed: under 8 MB for the four sizes.
"""

import json
import zipfile
from functools import lru_cache
from importlib import resources
from pathlib import Path

import safetensors.torch
import torch
from torch import Tensor

from avocet.core.errors import InputError
from avocet.detector.model.starting import StartingWeights

LEVELS = 31
"""Greatest level of a kernel's value; the least is its negative."""

SCALE = ".scale"


def pack_weights(path: Path, size: str, classes: list[str], tensors: dict[str, Tensor]) -> None:
    """Write weights small.

    Parameters
    ----------
    path : Path
    size : str
    classes : list of str
    tensors : dict of str to tensor
        A network's state.
    """
    packed: dict[str, Tensor] = {}
    for name, value in tensors.items():
        if not value.dtype.is_floating_point:
            continue
        if value.ndim < 2:
            packed[name] = value.half().contiguous()
            continue
        scale = value.flatten(1).abs().amax(1).clamp(min=1e-12) / LEVELS
        levels = value / scale.view(-1, *[1] * (value.ndim - 1))
        packed[name] = levels.round().to(torch.int8).contiguous()
        packed[name + SCALE] = scale.half()
    with zipfile.ZipFile(path, "w", zipfile.ZIP_LZMA) as archive:
        for inner, content in (
            ("about.json", json.dumps({"size": size, "classes": classes}).encode()),
            ("weights.safetensors", safetensors.torch.save(packed)),
        ):
            archive.writestr(zipfile.ZipInfo(inner, (1980, 1, 1, 0, 0, 0)), content, zipfile.ZIP_LZMA)


def unpack_weights(path: Path) -> StartingWeights:
    """Read what `pack_weights` wrote."""
    with zipfile.ZipFile(path) as archive:
        about = json.loads(archive.read("about.json"))
        packed = safetensors.torch.load(archive.read("weights.safetensors"))
    tensors = {}
    for name, value in packed.items():
        if name.endswith(SCALE):
            continue
        if value.dtype == torch.int8:
            scale = packed[name + SCALE].float()
            tensors[name] = value.float() * scale.view(-1, *[1] * (value.ndim - 1))
        else:
            tensors[name] = value.float()
    return StartingWeights("the shipped weights", about["size"], about["classes"], tensors)


@lru_cache(maxsize=4)
def shipped_weights(size: str) -> StartingWeights:
    """The weights shipped for a size.

    Raises
    ------
    InputError
        If there are none.

    Examples
    --------
    >>> weights = shipped_weights("stint")
    >>> weights.size, len(weights.classes)
    ('stint', 20)
    """
    with resources.as_file(resources.files("avocet.detector") / "weights" / f"{size}.zip") as path:
        if not path.is_file():
            raise InputError(f"no starting weights are shipped for {size.capitalize()}")
        return unpack_weights(path)
