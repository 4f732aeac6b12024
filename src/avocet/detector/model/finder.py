"""What every detector answers, whatever it is made of. It needs no torch."""

from collections.abc import Sequence
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from avocet.core.raw.candidates import Candidates


class Finder(Protocol):
    """Whatever finds boxes in pictures: one network, or several."""

    @property
    def classes(self) -> list[str]: ...

    @property
    def about(self) -> dict[str, Any]: ...

    def candidates(self, pictures: Sequence[NDArray[np.uint8]], minimum_score: float) -> list[Candidates]: ...
