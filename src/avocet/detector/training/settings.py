"""What a person chooses for a training."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, field, fields
from typing import Any, Literal, get_args

from pydantic import ValidationError
from pydantic.dataclasses import dataclass as described

from avocet.core.errors import InputError
from avocet.detector.model.sizes import LEAST_INPUT, MOST_ANCHORS, MOST_INPUT, STRIDES, size_named
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.training.field import declared, setting
from avocet.faults import first_fault

Optimizer = Literal["adamw", "sgd"]
Schedule = Literal["cosine", "linear", "constant"]
NumberFormat = Literal["auto", "float32", "bfloat16"]
BestBy = Literal["map", "map50", "loss"]


@described(frozen=True)
class Settings:
    """What a person chooses for a training.

    Each field is declared once, with its bounds and the sentence that explains it: the page, the
    command line and the described interface all take them from here.

    Raises
    ------
    InputError
        If settings do not go together.
    pydantic.ValidationError
        If a value lies out of bounds; `settings_from` says it in words.
    """

    size: str = setting("stint", "Size", "larger is slower and finds more")
    side: int = setting(
        384,
        "Input side",
        "longer side of the input in pixels; by default the smallest at which the boxes are well told apart",
        LEAST_INPUT,
        MOST_INPUT,
        STRIDES[-1],
        multiple_of=STRIDES[-1],
        unit="px",
    )
    epochs: int = setting(
        110, "Epochs", "times that the run is measured; each goes through the pictures", 1, 10_000, 1
    )
    batch: int = setting(8, "Batch", "pictures in one step", 1, 256, 1)
    passes: int = setting(
        1, "Passes", "times an epoch goes through the pictures before it is measured", 1, 10_000, 1
    )
    seed: int = setting(0, "Seed", "the same seed gives the same weights", 0, 2**32 - 1, 1)
    # Of 0.003 to 0.02 the one that serves three unlike sets of pictures and three sizes best: bench/README.md.
    learning_rate: float = setting(
        8e-3,
        "Learning rate",
        "how far each step goes; lower it if the loss runs away",
        None,
        0.1,
        0.001,
        above=0,
    )
    optimizer: Optimizer = setting(
        "adamw",
        "Optimiser",
        "how weights follow the gradient; SGD wants a rate near 0.01",
        choices={"adamw": "AdamW", "sgd": "SGD with momentum"},
    )
    warm_up: float = setting(
        0.05, "Warm-up", "share of the steps in which the learning rate rises", 0, 0.5, 0.01
    )
    schedule: Schedule = setting(
        "cosine",
        "Schedule",
        "how the learning rate falls after that",
        choices={"cosine": "Cosine", "linear": "Linear", "constant": "Constant"},
    )
    weight_decay: float = setting(
        0.02, "Weight decay", "pulls weights towards 0, against overfitting", 0, 1, 0.005
    )
    multi_scale: bool = setting(
        False, "Multi-scale", "another side every epoch, in steps of 32 up to a quarter up and down"
    )
    patience: int = setting(
        0, "Patience", "ends after so many epochs without a better one; 0 never", 0, 10_000, 1
    )
    # A default training has some hundred steps: what the weights were in the first of them should be forgotten.
    average: float = setting(
        0.99,
        "Averaging",
        "how slowly the averaged weights follow; 0 uses the weights as they are",
        0,
        0.9999,
        0.001,
    )
    box_weight: float = setting(4.0, "Box loss weight", "weight of where a box lies", 0.01, 100, 0.5)
    objectness_weight: float = setting(
        1.0, "Objectness loss weight", "weight of whether there is an object", 0.01, 100, 0.5
    )
    class_weight: float = setting(1.0, "Class loss weight", "weight of what it is", 0, 100, 0.5)
    number_format: NumberFormat = setting(
        "auto",
        "Number format",
        "bfloat16 is quicker on some processors; 'auto' measures it",
        choices={"auto": "Measured", "float32": "float32", "bfloat16": "bfloat16"},
    )
    best_by: BestBy = setting(
        "map",
        "Best by",
        "what makes an epoch the best",
        choices={"map": "mAP at 0.50:0.95", "map50": "mAP at 0.5", "loss": "Validation loss"},
    )
    calibrate: bool = setting(
        True,
        "Calibrated scores",
        "fits scores to the validation pictures, so that 0.8 is right eight times in ten",
    )
    keep_every: int = setting(
        0,
        "Also every N-th epoch",
        "keeps its checkpoint too; 0 keeps only the latest and the best",
        0,
        10_000,
        1,
    )
    freeze_backbone: bool = setting(
        False, "Freeze backbone", "leaves the backbone of the starting weights as it is"
    )
    anchors: tuple[tuple[tuple[float, float], ...], ...] = setting(
        (),
        "Anchors",
        "widths and heights in input pixels, stride by stride; without any they are clustered from the boxes",
    )
    extended: tuple[int, ...] = setting(
        (), "Extended by", "epochs that were added after the planned end, piece by piece"
    )
    augmentation: Augmentation = field(default_factory=Augmentation)

    def __post_init__(self) -> None:
        size_named(self.size)
        chosen = [anchor for level in self.anchors for anchor in level]
        if self.anchors and (len(self.anchors) != len(STRIDES) or not 0 < len(chosen) <= MOST_ANCHORS):
            raise InputError(
                f"1 to {MOST_ANCHORS} anchors over {len(STRIDES)} strides are needed, "
                f"not {len(chosen)} over {len(self.anchors)}"
            )
        if any(not 1 <= value <= 4096 for anchor in chosen for value in anchor):
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
        values["anchors"] = _by_level(values.get("anchors") or ())
        values["extended"] = tuple(int(more) for more in values.get("extended") or ())
        return Settings(**values, augmentation=Augmentation(**given))
    except InputError:
        raise
    except ValidationError as error:
        raise InputError(_in_words(error)) from None
    except (TypeError, ValueError) as error:
        raise InputError(f"a setting has a value of the wrong kind: {error}") from None


def _by_level(anchors: Sequence[Any]) -> tuple[tuple[tuple[float, float], ...], ...]:
    """Anchors stride by stride. Earlier runs kept nine in one row, three for each stride, small to large."""
    if anchors and all(len(each) == 2 and not isinstance(each[0], (list, tuple)) for each in anchors):
        row = sorted(
            ((float(w), float(h)) for w, h in anchors), key=lambda size: (size[0] * size[1], size[0])
        )
        each = -(-len(row) // len(STRIDES))
        return tuple(tuple(row[start : start + each]) for start in range(0, each * len(STRIDES), each))
    return tuple(tuple((float(w), float(h)) for w, h in level) for level in anchors)


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


def _in_words(error: ValidationError) -> str:
    """What is wrong with the first value, with the bounds that it should keep."""
    first = first_fault(error)
    if first["type"] == "value_error":
        return str(first["ctx"]["error"])
    name = str(first["loc"][-1]) if first["loc"] else ""
    own = declared(Settings)
    known = own if name in own else declared(Augmentation)
    if name not in known:
        return f"a setting has a value of the wrong kind: {first['msg']}"
    info, given = known[name], first["input"]
    title = (info.title or name).lower()
    bounds = {
        key: getattr(each, key) for each in info.metadata for key in ("ge", "gt", "le") if hasattr(each, key)
    }
    if first["type"] == "literal_error":
        return f"{title} must be one of {', '.join(get_args(info.annotation))}, not {given!r}"
    if first["type"] in (
        "greater_than_equal",
        "less_than_equal",
        "greater_than",
        "multiple_of",
        "finite_number",
    ):
        least = f"above {bounds['gt']:g} and up to" if "gt" in bounds else f"between {bounds['ge']:,} and"
        steps = next((each.multiple_of for each in info.metadata if hasattr(each, "multiple_of")), None)
        verb = f"be a multiple of {steps}" if steps else "lie"
        return f"{title} must {verb} {least} {bounds['le']:,}, not {given}"
    return f"{title} has a value of the wrong kind: {given!r}"
