"""One picture and one model taken apart: raw outputs kept, and explained as often as a slider moves."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from avocet.core.boxes import iou
from avocet.core.logistic import sigmoid
from avocet.core.raw.candidates import MINIMUM_SCORE
from avocet.core.raw.decode import Decoded, decode
from avocet.core.raw.explaining import (
    DROPPED,
    KEPT,
    STEPS,
    Arithmetic,
    Fates,
    follow,
    near_truth,
    work_out,
)
from avocet.core.raw.letterbox import letterbox
from avocet.core.raw.suppressing import Method
from avocet.detector.model.card import score_map
from avocet.files import replacing, write_text
from avocet.store.folder import DataFolder
from avocet.work.problems import NotFound

MOST_SHOWN = 400
"""Boxes that are sent to the page, kept ones first, then the surest."""


class Facts(BaseModel):
    """What is kept beside the raw outputs."""

    model: str
    picture: str
    picture_id: int | None
    width: int
    height: int
    side: int
    classes: list[str]
    anchors: list[list[tuple[float, float]]]
    strides: list[int]
    reach: float
    calibration: tuple[float, float, float] | None = None
    minimum_score: float = MINIMUM_SCORE
    truths: list[tuple[int, float, float, float, float]] = []


@dataclass(frozen=True)
class Level:
    """One grid of cells: the best objectness of each cell's anchors, and the likeliest class there.

    Attributes
    ----------
    stride, rows, columns : int
    anchors : list of (float, float)
        Widths and heights in input pixels; none where the level is not used, and then nothing else.
    objectness : list of float
        Row by row.
    best_class : list of int
    best_anchor : list of int
    """

    stride: int
    rows: int
    columns: int
    anchors: list[tuple[float, float]]
    objectness: list[float]
    best_class: list[int]
    best_anchor: list[int]


class TakenApart:
    """Raw outputs of a model for one picture.

    Parameters
    ----------
    facts : Facts
    raw : sequence of (A, 5 + C, H, W) ndarray
    """

    def __init__(self, facts: Facts, raw: Sequence[NDArray[np.float32]]) -> None:
        self.facts, self.raw = facts, list(raw)
        self.box = letterbox(facts.width, facts.height, facts.side)
        self.decoded: Decoded = decode(self.raw, facts.anchors, facts.strides, facts.reach)
        self.calibrated = score_map(facts.calibration)

    def save(self, folder: DataFolder, job_id: int) -> None:
        """Keep everything for the page."""
        path = folder.anatomy(job_id)
        path.parent.mkdir(parents=True, exist_ok=True)
        with replacing(path) as temporary:
            levels: dict[str, Any] = {f"level{number}": each for number, each in enumerate(self.raw)}
            np.savez_compressed(temporary, **levels)
        write_text(path.with_name("facts.json"), self.facts.model_dump_json())

    @classmethod
    def kept(cls, folder: DataFolder, job_id: int) -> "TakenApart":
        """What a job has kept, or `NotFound`."""
        path = folder.anatomy(job_id)
        if not path.is_file():
            raise NotFound(f"nothing was taken apart under number {job_id}; do it again")
        facts = Facts.model_validate_json(path.with_name("facts.json").read_bytes())
        with np.load(path, allow_pickle=False) as stored:
            return cls(facts, [stored[f"level{number}"] for number in range(len(facts.strides))])

    def levels(self) -> list[Level]:
        """The grids, fine to coarse."""
        made = []
        for raw, anchors, stride in zip(self.raw, self.facts.anchors, self.facts.strides, strict=True):
            if not anchors:
                made.append(Level(stride, raw.shape[2], raw.shape[3], [], [], [], []))
                continue
            objectness = sigmoid(raw[:, 4])
            best = objectness.argmax(axis=0)
            rows, columns = np.indices(best.shape)
            classes = raw[best, 5:, rows, columns].argmax(axis=2)
            made.append(
                Level(
                    stride, best.shape[0], best.shape[1], anchors,
                    objectness.max(axis=0).round(4).ravel().tolist(), classes.ravel().tolist(),
                    best.ravel().tolist(),
                )
            )  # fmt: skip
        return made

    def fates(
        self, minimum_score: float, overlap_limit: float, method: Method, sigma: float, most: int
    ) -> Fates:
        """What becomes of every candidate."""
        return follow(
            self.decoded, self.box, self.facts.width, self.facts.height, minimum_score, overlap_limit,
            method, sigma, most, self.calibrated,
        )  # fmt: skip

    def cell(self, level: int, row: int, column: int, anchor: int) -> Arithmetic:
        """The arithmetic of one cell and anchor. Raises `NotFound` where there is none."""
        there = 0 <= level < len(self.raw)
        if there:
            anchors, _, rows, columns = self.raw[level].shape
            there = 0 <= row < rows and 0 <= column < columns and 0 <= anchor < anchors
        if not there:
            raise NotFound(f"there is no anchor {anchor} in cell {row}, {column} of level {level}")
        return work_out(
            self.raw[level][anchor, :, row, column], row, column, self.facts.anchors[level][anchor],
            self.facts.strides[level], self.facts.reach, self.box, self.facts.width, self.facts.height,
            self.calibrated,
        )  # fmt: skip

    def number_of(self, level: int, row: int, column: int, anchor: int) -> int:
        """Place of a cell's anchor among all candidates."""
        before = sum(int(np.prod((each.shape[0], *each.shape[2:]))) for each in self.raw[:level])
        anchors, _, _, columns = self.raw[level].shape
        number: int = before + (row * columns + column) * anchors + anchor
        return number


def shown_candidates(
    apart: TakenApart, fates: Fates, most: int = MOST_SHOWN, truth: Sequence[float] | None = None
) -> list[dict[str, Any]]:
    """Candidates with their origin and fate: kept ones, dropped ones, then the surest of the rest.

    Parameters
    ----------
    apart : TakenApart
    fates : Fates
    most : int
    truth : sequence of float, optional
        Corners; only the candidates nearest to it are told.

    Returns
    -------
    list of dict
    """
    nearness: dict[int, float] = {}
    if truth is not None:
        chosen = near_truth(fates, truth)
        overlaps = iou(fates.placed.boxes[chosen], [truth])[:, 0]
        nearness = dict(zip(chosen.tolist(), overlaps.tolist(), strict=True))
    else:
        rank = np.lexsort((-fates.placed.scores, -fates.step))
        chosen = rank[: max(most, int((fates.step == KEPT).sum()))]
    classes = apart.facts.classes
    return [
        {
            "number": int(number),
            "level": int(fates.decoded.origin[number][0]),
            "row": int(fates.decoded.origin[number][1]),
            "column": int(fates.decoded.origin[number][2]),
            "anchor": int(fates.decoded.origin[number][3]),
            "corners": [round(float(value), 3) for value in fates.placed.boxes[number]],
            "class": classes[fates.placed.classes[number]],
            "class_index": int(fates.placed.classes[number]),
            "score": float(fates.placed.scores[number]),
            "objectness": float(fates.decoded.objectness[number]),
            "left_score": float(fates.score[number]),
            "fate": STEPS[fates.step[number]],
            "suppressor": int(fates.suppressor[number]) if fates.suppressor[number] >= 0 else None,
            "overlap": float(fates.overlap[number]) if fates.suppressor[number] >= 0 else None,
            "truth_overlap": nearness.get(number),
        }
        for number in chosen.tolist()
    ]


def explanation(
    apart: TakenApart, fates: Fates, minimum_score: float, overlap_limit: float, method: Method
) -> dict[str, Any]:
    """Everything as one document: what ``avocet explain`` writes."""
    everything, above, best, kept = fates.funnel()
    box = apart.box
    arithmetic = {
        int(number): asdict(apart.cell(*(int(value) for value in fates.decoded.origin[number])))
        for number in np.flatnonzero(fates.step >= DROPPED).tolist()
    }
    candidates = shown_candidates(apart, fates, most=int((fates.step >= DROPPED).sum()))
    return {
        "picture": {"name": apart.facts.picture, "width": apart.facts.width, "height": apart.facts.height},
        "model": apart.facts.model,
        "classes": apart.facts.classes,
        "letterbox": {
            "scale": [box.scale_x, box.scale_y], "offset": [box.left, box.top],
            "input": [box.input_width, box.input_height],
        },
        "settings": {"minimum_score": minimum_score, "overlap_limit": overlap_limit, "suppression": method},
        "funnel": {"all": everything, "above_minimum_score": above, "among_the_best": best, "kept": kept},
        "candidates": [each | {"arithmetic": arithmetic.get(each["number"])} for each in candidates],
    }  # fmt: skip
