"""What every engine answers. It needs no torch."""

from typing import Protocol

import numpy as np
from numpy.typing import NDArray


class Engine(Protocol):
    """Whatever computes a network's raw outputs."""

    @property
    def name(self) -> str:
        """What to tell a person: the library, and where it computes."""
        ...

    def raw(self, inputs: NDArray[np.uint8]) -> list[NDArray[np.float32]]:
        """Raw outputs, level by level, of (B, H, W, 3) uint8 inputs; (B, A, 5 + C, H / stride, W / stride) each."""
        ...
