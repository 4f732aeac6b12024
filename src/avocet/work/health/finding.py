"""What a look at the machine or at a data folder found."""

import enum
from dataclasses import dataclass


class Fitness(enum.StrEnum):
    """Whether it is well."""

    WELL = "well"
    NOTE = "note"
    WRONG = "wrong"


@dataclass(frozen=True)
class HealthFinding:
    """One line of a look.

    Attributes
    ----------
    subject : str
        What was looked at, in a word or two.
    said : str
        What was found, with units.
    fitness : Fitness
        ``note`` is worth knowing, ``wrong`` keeps something from working.
    """

    subject: str
    said: str
    fitness: Fitness = Fitness.WELL
