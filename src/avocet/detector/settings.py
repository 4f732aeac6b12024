"""What a person chooses for a training."""

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, fields
from typing import Any, Literal

from avocet.core.errors import InputError
from avocet.detector.augmentation import Augmentation
from avocet.detector.sizes import ANCHORS_PER_LEVEL, STRIDES, size_named

Optimizer = Literal["adamw", "sgd"]
Schedule = Literal["cosine", "linear", "constant"]
NumberFormat = Literal["auto", "float32", "bfloat16"]
BestBy = Literal["map", "map50", "loss"]

CHOICES: dict[str, tuple[str, ...]] = {
    "optimizer": ("adamw", "sgd"),
    "schedule": ("cosine", "linear", "constant"),
    "number_format": ("auto", "float32", "bfloat16"),
    "best_by": ("map", "map50", "loss"),
}

BOUNDS: dict[str, tuple[float, float]] = {
    "epochs": (1, 10_000),
    "batch": (1, 256),
    "passes": (1, 10_000),
    "seed": (0, 2**32 - 1),
    "warm_up": (0, 0.5),
    "weight_decay": (0, 1),
    "patience": (0, 10_000),
    "average": (0, 0.9999),
    "box_weight": (0.01, 100),
    "objectness_weight": (0.01, 100),
    "class_weight": (0, 100),
    "keep_every": (0, 10_000),
}


@dataclass(frozen=True)
class Settings:
    """What a person chooses for a training.

    Attributes
    ----------
    size : str
    side : int
        Longer side of the input in pixels, a multiple of 32.
    epochs, batch, seed : int
    passes : int
        How often one epoch goes through the training pictures; more than once where they are few.
    learning_rate : float
    optimizer : {'adamw', 'sgd'}
    warm_up : float
        Share of the steps in which the learning rate rises.
    schedule : {'cosine', 'linear', 'constant'}
        How the learning rate falls afterwards.
    weight_decay : float
    multi_scale : bool
        Change the input side every ten batches, in steps of 32 up to a quarter up and down.
    patience : int
        End after so many epochs without a better one; 0 never does.
    average : float
        How slowly the averaged weights follow; 0 uses the weights as they are.
    box_weight, objectness_weight, class_weight : float
    number_format : {'auto', 'float32', 'bfloat16'}
        'auto' measures which is faster.
    best_by : {'map', 'map50', 'loss'}
        What makes a checkpoint the best.
    keep_every : int
        Also keep the bundle of every so manieth epoch; 0 keeps latest and best only.
    freeze_backbone : bool
    anchors : tuple of (float, float)
        Nine widths and heights in input pixels; without, they are clustered from the boxes.
    extended : tuple of int
        Epochs that were added after the planned end, piece by piece.
    augmentation : Augmentation
    """

    size: str = "stint"
    side: int = 416
    epochs: int = 110
    batch: int = 8
    passes: int = 1
    seed: int = 0
    learning_rate: float = 3e-3
    optimizer: Optimizer = "adamw"
    warm_up: float = 0.05
    schedule: Schedule = "cosine"
    weight_decay: float = 0.02
    multi_scale: bool = False
    patience: int = 0
    average: float = 0.998
    box_weight: float = 2.0
    objectness_weight: float = 1.0
    class_weight: float = 1.0
    number_format: NumberFormat = "auto"
    best_by: BestBy = "map"
    keep_every: int = 0
    freeze_backbone: bool = False
    anchors: tuple[tuple[float, float], ...] = ()
    extended: tuple[int, ...] = ()
    augmentation: Augmentation = field(default_factory=Augmentation)

    def __post_init__(self) -> None:
        size_named(self.size)
        if self.side < 96 or self.side > 2048 or self.side % 32:
            raise InputError(f"input side {self.side} is not a multiple of 32 from 96 to 2048")
        for name, (least, most) in BOUNDS.items():
            value = getattr(self, name)
            if not least <= value <= most:
                raise InputError(f"{_words(name)} must lie between {least:g} and {most:g}, not {value}")
        if not 0 < self.learning_rate <= 0.1:
            raise InputError(f"learning rate must lie above 0 and up to 0.1, not {self.learning_rate}")
        for name, choices in CHOICES.items():
            if getattr(self, name) not in choices:
                raise InputError(
                    f"{_words(name)} must be one of {', '.join(choices)}, not {getattr(self, name)!r}"
                )
        if self.anchors and len(self.anchors) != len(STRIDES) * ANCHORS_PER_LEVEL:
            raise InputError(
                f"{len(STRIDES) * ANCHORS_PER_LEVEL} anchors are needed, not {len(self.anchors)}"
            )
        if any(not 1 <= value <= 4096 for anchor in self.anchors for value in anchor):
            raise InputError("every anchor must be 1 to 4096 pixels wide and high")
        if any(not 1 <= more <= 10_000 for more in self.extended):
            raise InputError(f"a run is extended by 1 to 10,000 epochs, not {self.extended[-1]}")

    @property
    def all_epochs(self) -> int:
        """Planned epochs and those added later."""
        return self.epochs + sum(self.extended)

    def as_record(self) -> dict[str, Any]:
        """The settings as plain values, to be kept with the run."""
        return asdict(self)


def settings_from(record: Mapping[str, Any]) -> Settings:
    """Settings from plain values, as they come from the page or were kept with a run.

    Parameters
    ----------
    record : mapping
        What is missing gets its default.

    Raises
    ------
    InputError
        If there is no such setting, or its value cannot be used.

    Examples
    --------
    >>> settings_from({"side": 320, "augmentation": {"flips": "all"}}).augmentation.flips
    'all'
    """
    values = dict(record)
    unknown = values.keys() - {each.name for each in fields(Settings)} - {"flips"}
    if unknown:
        raise InputError(f"there is no setting {sorted(unknown)[0]!r}")
    given = dict(values.pop("augmentation", None) or {})
    if "flips" in values:  # how runs kept it before there were other augmentations
        given.setdefault("flips", values.pop("flips"))
    strange = given.keys() - {each.name for each in fields(Augmentation)}
    if strange:
        raise InputError(f"there is no augmentation {sorted(strange)[0]!r}")
    try:
        values["anchors"] = tuple((float(w), float(h)) for w, h in values.get("anchors") or ())
        values["extended"] = tuple(int(more) for more in values.get("extended") or ())
        return Settings(**values, augmentation=Augmentation(**given))
    except InputError:
        raise
    except (TypeError, ValueError) as error:
        raise InputError(f"a setting has a value of the wrong kind: {error}") from None


PICTURES_SHOWN = 2640
"""Pictures that a detector should see in all, at least."""

VALIDATE_AFTER = 5
"""An epoch shows so many training pictures for each validation picture, so that measuring stays cheap."""

MOST_PASSES = 20


def default_passes(training: int, validation: int) -> int:
    """How often an epoch goes through the training pictures.

    Examples
    --------
    >>> default_passes(24, 20), default_passes(5000, 500), default_passes(1, 1)
    (5, 1, 5)
    """
    return min(MOST_PASSES, max(1, math.ceil(VALIDATE_AFTER * validation / max(1, training))))


def default_epochs(pictures: int, passes: int = 1) -> int:
    """Epochs that go often enough through the pictures: 40 times or more, and 2,640 pictures in all.

    Examples
    --------
    >>> default_epochs(24, 5), default_epochs(5000)
    (22, 40)
    """
    return math.ceil(max(40, PICTURES_SHOWN / max(1, pictures)) / passes)


def _words(name: str) -> str:
    return name.replace("_", " ")
