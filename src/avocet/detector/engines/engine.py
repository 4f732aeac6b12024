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

    @property
    def side_by_side(self) -> int:
        """How many pictures it looks at best at the same time, each asked for by itself; 1 where they are best given together."""
        ...

    def raw(self, inputs: NDArray[np.uint8]) -> list[NDArray[np.float32]]:
        """Raw outputs, level by level, of (B, H, W, 3) uint8 inputs; (B, A, 5 + C, H / stride, W / stride) each."""
        ...

    def raw_beside(self, inputs: NDArray[np.uint8]) -> list[NDArray[np.float32]]:
        """The same as one of several that are asked for at the same time, from different threads."""
        ...
