"""The learning rate from step to step."""

import math

from avocet.detector.training.settings import Settings

LAST_SHARE = 0.02
"""What is left of the learning rate at the end of a falling schedule."""

EXTENSION_SHARE = 0.3
"""An extension begins at this share of the learning rate: the weights are good, and shall stay so."""


def learning_rate(settings: Settings, step: int, steps_per_epoch: int) -> float:
    """Learning rate of a step, counted from 0.

    It rises over the warm-up, then falls as a half cosine (Loshchilov and Hutter, 2017), along a
    line, or not at all. Every extension is such a piece of its own, at a lower peak.

    Examples
    --------
    >>> settings = Settings(epochs=10, learning_rate=0.01, warm_up=0.1)
    >>> [round(learning_rate(settings, step, 10), 5) for step in (0, 9, 54, 99)]
    [0.001, 0.01, 0.00519, 0.0002]
    """
    peak, start = settings.learning_rate, 0
    pieces = (settings.epochs, *settings.extended)
    for number, epochs in enumerate(pieces):
        length = epochs * steps_per_epoch
        if step < start + length or number == len(pieces) - 1:
            return _within(settings, peak, step - start, length)
        start += length
        peak = EXTENSION_SHARE * settings.learning_rate
    raise AssertionError("the last piece holds every later step")


def _within(settings: Settings, peak: float, step: int, length: int) -> float:
    warm = round(settings.warm_up * length)
    if step < warm:
        return peak * (step + 1) / warm
    done = min(1.0, (step - warm) / max(1, length - warm - 1))
    left = {"cosine": 0.5 * (1 + math.cos(math.pi * done)), "linear": 1 - done, "constant": 1.0}
    share = left[settings.schedule]
    return peak * (share if settings.schedule == "constant" else LAST_SHARE + (1 - LAST_SHARE) * share)
