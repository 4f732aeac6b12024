"""What a run would learn from, and what stands in its way."""

import hashlib
import json
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from avocet.core.boxes import Array
from avocet.core.labels.orientation import lie_in_every_direction
from avocet.core.raw.levels import levels_in_use
from avocet.detector.model.sizes import (
    ALL_LEVELS,
    ANCHORS_PER_LEVEL,
    LEARNABLE,
    RESOLVED,
    SIDES,
    SIZES,
    STRIDES,
    backbone_parameter_count,
    parameter_count,
)
from avocet.detector.targets.anchors import shown_sizes
from avocet.detector.training.settings import Settings, default_epochs, default_passes
from avocet.store.folder import look_name
from avocet.store.tables import Part
from avocet.work.snapshots.frozen import Frozen
from avocet.work.train.ahead.run_labels import RunLabels

DEFAULT_BATCH = Settings().batch

LEARNABLE_SIDE, RESOLVED_SIDE = LEARNABLE, RESOLVED
"""In input pixels, for those above who may not ask the detector."""

USUAL_SIDE = Settings().side
"""Where there are no boxes yet that advise one."""

ENOUGH_RESOLVED = 0.05
"""A side is advised at which at most this share of boxes is too small to be well told apart."""


@dataclass(frozen=True)
class SideAdvice:
    """An input side: how many boxes are too small at it, and its cost against the chosen one."""

    side: int
    small: float
    cost: float


@dataclass(frozen=True)
class Plan:
    """What a run would be trained on, and what stands in its way.

    Attributes
    ----------
    training, validation, test, unassigned : int
        Labelled pictures in each part.
    boxes_by_class : dict
        Class name to boxes in the training part.
    obstacles : list of str
        A run cannot start while there are any.
    warnings : list of str
    epochs, passes : int
        Suggested, and how often each epoch goes through the pictures.
    every_direction : bool
        Objects lie in every direction, so pictures may be turned freely.
    parameters : dict
        Trainable parameters of each size for these classes.
    trained_if_frozen : dict
        Share of each size's parameters that is still trained with a frozen backbone.
    sized : int
        Boxes that sides, directions and the number of anchors are derived from; 0 where there are none yet.
    sides : list of SideAdvice
    advised_side : int
        The smallest side at which nearly all boxes are large enough to be told apart, not above ``own_side``.
    own_side : int
        The longer side of the pictures, the median; a larger input side shows nothing that they do not hold.
    side : int
        That the plan speaks of.
    """

    training: int
    validation: int
    test: int
    unassigned: int
    boxes_by_class: dict[str, int]
    obstacles: list[str]
    warnings: list[str]
    epochs: int
    passes: int
    every_direction: bool
    parameters: dict[str, int]
    trained_if_frozen: dict[str, float]
    sized: int
    sides: list[SideAdvice]
    advised_side: int
    own_side: int
    side: int


def plan_run(labels: RunLabels, side: int | None = None, batch: int = DEFAULT_BATCH) -> Plan:
    """Say what a run would have to learn from labels as they are now, or as a snapshot holds them.

    Without a side it speaks of the one that the boxes advise.
    """
    names = labels.names
    training, validation = labels.pictures_in(Part.TRAINING), labels.pictures_in(Part.VALIDATION)
    test, unassigned = labels.pictures_in(Part.TEST), labels.pictures_in(None)
    learnt = _named(labels, Part.TRAINING)
    held_out = _named(labels, Part.VALIDATION)
    sizes, classes = labels.learnt_sizes()
    passes = default_passes(training, validation)
    shorter = np.minimum(sizes[:, 0], sizes[:, 1])
    own_side = labels.own_side()
    advised = advised_side(sizes, own_side)
    if side is None:
        side = advised if len(sizes) else USUAL_SIDE
    sides = [SideAdvice(each, _small(shorter, each), (each / side) ** 2) for each in sorted({*SIDES, side})]
    warnings = _warnings(learnt, held_out, names)
    small = round(_small(shorter, side, LEARNABLE) * len(sizes))
    if small:
        warnings.append(
            f"{small} of {len(sizes)} boxes are under {LEARNABLE:g} pixels at side {side}; "
            "a larger side helps to find them"
        )
    if 0 < training * passes < batch:
        warnings.append(
            f"A batch of {batch} is more than the {training} training pictures; some are in it more than once"
        )
    anchors = _anchors_by_level(sizes * side)
    parameters = {name: parameter_count(size, max(1, len(names)), anchors) for name, size in SIZES.items()}
    return Plan(
        training=training,
        validation=validation,
        test=test,
        unassigned=unassigned,
        boxes_by_class={name: learnt[name] for name in names},
        obstacles=_obstacles((training, validation, test, unassigned), learnt, held_out, names),
        warnings=warnings,
        epochs=default_epochs(training or unassigned, passes),
        passes=passes,
        every_direction=lie_in_every_direction(sizes, classes),
        parameters=parameters,
        trained_if_frozen={
            name: 1 - backbone_parameter_count(size) / parameters[name] for name, size in SIZES.items()
        },
        sized=len(sizes),
        sides=sides,
        advised_side=advised,
        own_side=own_side,
        side=side,
    )


def advised_side(sizes: Array, own_side: int) -> int:
    """The smallest side at which nearly all boxes are well told apart, from their sizes as shares of the longer side.

    None above the pictures' own is advised: blown up, they show no more.
    """
    shorter = np.minimum(sizes[:, 0], sizes[:, 1])
    offered = [each for each in SIDES if each <= max(own_side, SIDES[0])]
    return min((each for each in offered if _small(shorter, each) <= ENOUGH_RESOLVED), default=offered[-1])


def _named(labels: RunLabels, part: Part) -> Counter[str]:
    return Counter({name: int(count) for name, count in zip(labels.names, labels.counts(part), strict=True)})


def held_out_hash(frozen: Frozen) -> str:
    """Names what the validation figures of a run come from: pictures and truths.

    A class without a truth among them counts for nothing there, so it changes nothing here.
    """
    held = sorted(
        [
            look_name(picture.content_hash, picture.white),
            sorted([frozen.classes[box.label], *box.corners, box.crowd] for box in picture.boxes),
        ]
        for picture in frozen.pictures
        if picture.part == Part.VALIDATION
    )
    return hashlib.sha256(json.dumps(held).encode()).hexdigest()[:16]


def _anchors_by_level(sizes: Array) -> Sequence[int]:
    """How many anchors each level will have."""
    if not len(sizes):
        return ALL_LEVELS
    used = set(levels_in_use(shown_sizes(sizes, Settings()), STRIDES).tolist())
    return [ANCHORS_PER_LEVEL if level in used else 0 for level in range(len(STRIDES))]


def _small(shorter: Array, side: int, least: float = RESOLVED) -> float:
    """Share of boxes whose shorter side, here as a share of their picture's longer one, is under so many pixels."""
    return float((shorter * side < least).mean()) if len(shorter) else 0.0


def _warnings(learnt: Counter[str], held_out: Counter[str], names: list[str]) -> list[str]:
    warnings = [
        f"Class {name!r} has only {learnt[name]} training boxes" for name in names if 0 < learnt[name] < 10
    ]
    warnings += [
        f"Class {name!r} has no training box and will never be found"
        for name in names
        if not learnt[name] and not held_out[name]
    ]
    warnings += [
        f"Class {name!r} has no validation box, so its precision cannot be measured"
        for name in names
        if learnt[name] and not held_out[name]
    ]
    return warnings


def _obstacles(
    counts: tuple[int, int, int, int], learnt: Counter[str], held_out: Counter[str], names: list[str]
) -> list[str]:
    if not names:
        return ["The project has no class yet; add one in Collect"]
    if not sum(counts):
        return ["No picture is done yet; draw the boxes of some in Collect and press Enter on each"]
    obstacles = []
    lacking = [name for there, name in zip(counts, ("training", "validation"), strict=False) if not there]
    if lacking:
        obstacles.append(f"No labelled picture is in the {' or the '.join(lacking)} part; split the pictures")
    if counts[0] and not learnt.total():
        obstacles.append("The labelled training pictures hold no box")
    obstacles += [
        f"Class {name!r} has {held_out[name]} boxes in the validation part but none in the training part"
        for name in names
        if held_out[name] and not learnt[name]
    ]
    return obstacles
