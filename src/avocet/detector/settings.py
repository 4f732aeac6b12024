"""What a person chooses for a training."""

import math
from dataclasses import dataclass

from avocet.core.errors import InputError
from avocet.detector.augmentation import FLIPS, Flips
from avocet.detector.sizes import size_named


@dataclass(frozen=True)
class Settings:
    """What a person chooses for a training.

    Attributes
    ----------
    size : str
    side : int
        Longer side of the input in pixels, a multiple of 32.
    epochs, batch, seed : int
    learning_rate : float
    flips : {'none', 'sideways', 'all'}
    """

    size: str = "stint"
    side: int = 416
    epochs: int = 110
    batch: int = 8
    seed: int = 0
    learning_rate: float = 3e-3
    flips: Flips = "sideways"

    def __post_init__(self) -> None:
        size_named(self.size)
        if self.side < 96 or self.side > 2048 or self.side % 32:
            raise InputError(f"input side {self.side} is not a multiple of 32 from 96 to 2048")
        for name, value, most in (("epochs", self.epochs, 10_000), ("batch", self.batch, 256)):
            if not 1 <= value <= most:
                raise InputError(f"{name} must lie between 1 and {most}, not {value}")
        if not 0 <= self.seed < 2**32:
            raise InputError(f"seed must lie between 0 and {2**32 - 1}, not {self.seed}")
        if not 0 < self.learning_rate <= 0.1:
            raise InputError(f"learning rate must lie above 0 and up to 0.1, not {self.learning_rate}")
        if self.flips not in FLIPS:
            raise InputError(f"flips must be one of {', '.join(FLIPS)}, not {self.flips!r}")


def default_epochs(pictures: int) -> int:
    """Epochs that show a network enough pictures: about 2,640 in all, and never under 40 epochs.

    Examples
    --------
    >>> default_epochs(24), default_epochs(5000)
    (110, 40)
    """
    return max(40, math.ceil(2640 / max(1, pictures)))
