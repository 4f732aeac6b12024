"""Mistakes planted in the demo's labels, for Audit and Judge to find; docs/demo.md lists them."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from avocet.core.boxes import clip
from avocet.demo.belt import HEIGHT, WIDTH, Frame
from avocet.demo.goods import NAMES


@dataclass(frozen=True)
class Planted:
    """A mistake: in which picture of the demo, counted from 1, and what it is."""

    picture: int
    kind: str


def _wrong_class(frame: Frame, index: int) -> Frame:
    classes = list(frame.classes)
    classes[index] = NAMES[(NAMES.index(classes[index]) + 1) % len(NAMES)]
    return replace(frame, classes=classes)


def _too_loose(frame: Frame, index: int) -> Frame:
    boxes = frame.boxes.copy()
    grown = (boxes[index, 2:] - boxes[index, :2]) * 0.3
    boxes[index] = clip([boxes[index] + np.concatenate([-grown, grown])], WIDTH, HEIGHT)[0]
    return replace(frame, boxes=boxes)


def _missing(frame: Frame, index: int) -> Frame:
    return _some(frame, [each for each in range(len(frame.boxes)) if each != index])


def _doubled(frame: Frame, index: int) -> Frame:
    twice = _some(frame, [*range(len(frame.boxes)), index])
    twice.boxes[-1] += (1, -1, 1, 1)
    return replace(twice, boxes=clip(twice.boxes, WIDTH, HEIGHT))


def _some(frame: Frame, chosen: list[int]) -> Frame:
    return replace(
        frame,
        boxes=frame.boxes[chosen],
        classes=[frame.classes[each] for each in chosen],
        burnt=[frame.burnt[each] for each in chosen],
    )


_MADE: dict[str, Callable[[Frame, int], Frame]] = {
    "wrong class": _wrong_class,
    "too loose": _too_loose,
    "missing": _missing,
    "doubled": _doubled,
}

PLANTED = (
    Planted(27, "wrong class"),
    Planted(30, "too loose"),
    Planted(34, "missing"),
    Planted(38, "doubled"),
)
"""All in the validation part, where Judge looks for labels that a model doubts."""

PHOTOGRAPHED_AGAIN, SHOWN_FIRST = 45, 6
"""Picture 45, of the test part, shows the goods of picture 6, of the training part, once more."""


def with_mistakes(frame: Frame, picture: int) -> Frame:
    """A frame as the demo labels it: right, but for what is planted in it.

    Parameters
    ----------
    frame : Frame
    picture : int
        Its number in the demo, counted from 1.
    """
    for each in PLANTED:
        if each.picture == picture:
            frame = _MADE[each.kind](frame, planted_box(frame))
    return frame


def planted_box(frame: Frame) -> int:
    """The box that a mistake is made of: the one nearest to the middle of the picture, which shows it whole."""
    middles = (frame.boxes[:, :2] + frame.boxes[:, 2:]) / 2
    return int(np.hypot(*(middles - (WIDTH / 2, HEIGHT / 2)).T).argmin())
