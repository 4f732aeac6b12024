"""Plain hints from the figures of a training: what a practised eye would see in its curves."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

LOOKS_BACK = 5
"""Validations that a trend is judged on."""

LEAP = 10
"""So many times the first training loss, a validation loss means steps that are too long."""


@dataclass(frozen=True)
class Hint:
    """Something worth knowing about a training, in one sentence, and from which epoch it holds."""

    kind: str
    epoch: int
    text: str


def training_hints(
    epochs: Sequence[int],
    training_loss: Sequence[float],
    validation_loss: Sequence[float],
    predicted: Mapping[str, Sequence[int]],
    truths: Mapping[str, int],
) -> list[Hint]:
    """Hints that are due.

    Parameters
    ----------
    epochs : sequence of int
        Epochs with a validation, rising.
    training_loss, validation_loss : sequence of float
        Of these epochs.
    predicted : mapping of str to sequence of int
        For each class, how many boxes of it were predicted at each of these epochs.
    truths : mapping of str to int
        For each class, how many boxes the validation pictures hold.

    Returns
    -------
    list of Hint
        Kinds are 'overfitting', 'never predicted' and 'learning rate'.

    Examples
    --------
    >>> falling, rising = [5, 4, 3, 2.5, 2.2, 2], [5, 4, 4.2, 4.5, 4.9, 5.2]
    >>> [hint.kind for hint in training_hints(range(1, 7), falling, rising, {}, {})]
    ['overfitting']
    """
    hints: list[Hint] = []
    learnt, held = np.asarray(training_loss, dtype=float), np.asarray(validation_loss, dtype=float)
    if len(held) > LOOKS_BACK:
        lowest = int(held.argmin())
        since = len(held) - 1 - lowest
        if since >= LOOKS_BACK - 1 and held[-1] > 1.1 * held[lowest] and learnt[-1] < 0.95 * learnt[lowest]:
            hints.append(
                Hint(
                    "overfitting",
                    int(epochs[lowest]),
                    f"Validation loss has risen since epoch {epochs[lowest]} while training loss falls: "
                    "overfitting. More pictures or stronger augmentation help; the best epoch is kept.",
                )
            )
    if len(learnt) > 2 and _rising(learnt):
        hints.append(
            Hint(
                "learning rate",
                int(epochs[-1]),
                "Training loss is rising. The learning rate is too high, try a third of it.",
            )
        )
    elif len(held) and held[highest := int(held.argmax())] > LEAP * learnt[0]:
        hints.append(
            Hint(
                "learning rate",
                int(epochs[highest]),
                f"Validation loss leapt to {held[highest]:,.0f} at epoch {epochs[highest]}. The learning rate "
                "is too high, try a third of it.",
            )
        )
    if len(epochs) >= LOOKS_BACK:
        never = [
            name
            for name, counts in predicted.items()
            if truths.get(name, 0) and not any(counts[-LOOKS_BACK:])
        ]
        if never:
            hints.append(Hint("never predicted", int(epochs[-1]), _never(never, truths)))
    return hints


def _never(names: Sequence[str], truths: Mapping[str, int]) -> str:
    since = f"been predicted in the last {LOOKS_BACK} validations, though there are"
    if len(names) == 1:
        return f"{names[0]} has not {since} {truths[names[0]]} of it. Check its labels, or label more."
    listed = f"{', '.join(names[:-1])} and {names[-1]}"
    count = sum(truths[name] for name in names)
    return f"{listed} have not {since} {count} of them. Check their labels, or label more."


def _rising(losses: np.ndarray) -> bool:
    """Whether the loss went up over the last epochs, by more than it jitters."""
    lowest = losses.min()
    return bool(losses[-1] > 1.5 * lowest and losses[-2] > 1.3 * lowest)
