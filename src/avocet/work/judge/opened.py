"""A measured model opened for looking: truths, what was found, picture by picture."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.flattened import flatten
from avocet.core.raw.candidates import EVERY_SCORE, Candidates, suppress_pictures
from avocet.core.score.calibration import ScoreMap
from avocet.core.score.matching import match
from avocet.core.score.matching_all import overlapping_pairs
from avocet.core.score.measurement import MatchedPictures, match_pictures
from avocet.detector.model.card import score_map
from avocet.store.folder import DataFolder
from avocet.store.tables import Evaluation, JobState, Part
from avocet.work.judge.sent import held_out_file, kept_truth
from avocet.work.pictures.files import StoredPicture
from avocet.work.problems import NotFound
from avocet.work.snapshots.frozen import Frozen, FrozenPicture, truth_in
from avocet.work.snapshots.snapshots import read_snapshot

MATCHING_IOU = 0.5
"""IoU from which a prediction counts as a hit on the stage."""


@dataclass(frozen=True)
class Wall:
    """Hits, misses and false alarms at two thresholds: of every picture, and of every class."""

    pictures: list[dict[str, Any]]
    classes: list[dict[str, Any]]


class Measured:
    """Truths and candidates of many pictures, opened for looking.

    Parameters
    ----------
    name : str
        Of the model.
    classes : sequence of str
    pictures : sequence of FrozenPicture
    candidates : sequence of Candidates
        One entry a picture, in the same order.
    project_id : int
        Of no matter outside of the application.
    part : Part, optional
        Of the snapshot; None for a truth from outside.
    calibrated : ScoreMap, optional
        What the scores have been through.
    """

    def __init__(
        self,
        name: str,
        classes: Sequence[str],
        pictures: Sequence[FrozenPicture],
        candidates: Sequence[Candidates],
        project_id: int = 0,
        part: Part | None = None,
        calibrated: ScoreMap | None = None,
    ) -> None:
        self.name, self.classes, self.pictures = name, list(classes), list(pictures)
        self.project_id, self.part, self.calibrated = project_id, part, calibrated
        self._candidates = list(candidates)
        self.truths = [truth_in(picture) for picture in self.pictures]
        self._found: dict[tuple[float, float], list[PictureDetections]] = {}

    @classmethod
    def opened(cls, folder: DataFolder, evaluation: Evaluation) -> "Measured":
        """A finished evaluation. Raises `NotFound` if it is not done."""
        if evaluation.job.state != JobState.DONE:
            raise NotFound(f"measurement {evaluation.id} is not done")
        frozen = truth_of(folder, evaluation)
        return cls(
            evaluation.name,
            frozen.classes,
            [picture for picture in frozen.pictures if picture.part == evaluation.part],
            load_candidates(folder.evaluation(evaluation.project_id, evaluation.id)),
            evaluation.project_id,
            evaluation.part,
            score_map(evaluation.report.get("calibration")),
        )

    def found(self, minimum_score: float, overlap_limit: float) -> list[PictureDetections]:
        """What is found on every picture at two thresholds."""
        key = (minimum_score, overlap_limit)
        if key not in self._found:
            if len(self._found) > 3:
                self._found.clear()
            self._found[key] = suppress_pictures(self._candidates, minimum_score, overlap_limit)
        return self._found[key]

    @cached_property
    def candidates(self) -> list[PictureDetections]:
        """Everything that the model had on each picture, before suppression."""
        return [PictureDetections(each.boxes, each.scores, each.classes) for each in self._candidates]

    def matched(self, overlap_limit: float, iou_threshold: float = MATCHING_IOU) -> MatchedPictures:
        """All detections down to the lowest score, matched at one IoU."""
        found = self.found(EVERY_SCORE, overlap_limit)
        return match_pictures(self.truths, found, range(len(self.classes)), [iou_threshold])

    @cached_property
    def held_out(self) -> tuple[tuple[int, str], ...]:
        """Names the pictures: two evaluations compare where it is the same."""
        return tuple((picture.id, picture.content_hash) for picture in self.pictures)

    def wall(self, minimum_score: float, overlap_limit: float) -> Wall:
        """Counts of hits, misses and false alarms of every picture, with its lowest IoU, and of every class, in order."""
        numbers = range(len(self.classes))
        found = self.found(minimum_score, overlap_limit)
        made = match_pictures(self.truths, found, numbers, [MATCHING_IOU])
        lowest = self._lowest_fits(found)
        hit, alarm, asked = made.hit[0, 0], ~made.hit[0, 0] & ~made.skipped[0, 0], made.counted[0]
        many, kinds = len(self.pictures), len(numbers)
        of_picture = _counts(
            np.bincount(made.picture[hit], minlength=many),
            np.bincount(made.picture[alarm], minlength=many),
            np.bincount(made.truth_picture[asked], minlength=many),
        )
        of_class = _counts(
            np.bincount(made.kind[hit], minlength=kinds),
            np.bincount(made.kind[alarm], minlength=kinds),
            np.bincount(made.truth_kind[asked], minlength=kinds),
        )
        return Wall(
            [
                {
                    "picture_id": picture.id,
                    "name": picture.name,
                    "width": picture.width,
                    "height": picture.height,
                }
                | counts
                | {
                    "lowest_iou": float(lowest[index])
                    if counts["hits"] and np.isfinite(lowest[index])
                    else None
                }
                for index, (picture, counts) in enumerate(zip(self.pictures, of_picture, strict=True))
            ],
            [{"name": name} | counts for name, counts in zip(self.classes, of_class, strict=True)],
        )

    def _lowest_fits(self, found: list[PictureDetections]) -> Array:
        """The worst fit of a hit in each picture: the least, over found truths, of their best IoU; or infinite."""
        numbers = np.arange(len(self.classes))
        mine, real = flatten(found, numbers), flatten(self.truths, numbers)
        _, truth, overlap = overlapping_pairs(
            mine.boxes, mine.group, real.boxes, real.group, real.crowd, MATCHING_IOU
        )
        best = np.zeros(len(real.boxes))
        np.maximum.at(best, truth, overlap)
        found_truths = np.flatnonzero((best > 0) & ~real.flags)
        lowest = np.full(len(self.pictures), np.inf)
        np.minimum.at(lowest, real.owner[found_truths], best[found_truths])
        return lowest

    def index_of(self, picture_id: int) -> int:
        """Position of a picture, or `NotFound`."""
        try:
            return self._positions[picture_id]
        except KeyError:
            raise NotFound(f"picture {picture_id} is not among those that were measured") from None

    @cached_property
    def _positions(self) -> dict[int, int]:
        return {picture.id: index for index, picture in enumerate(self.pictures)}

    def picture(self, picture_id: int) -> StoredPicture:
        """A picture as its file is found."""
        frozen = self.pictures[self.index_of(picture_id)]
        if not frozen.content_hash:
            raise NotFound(f"{frozen.name} was not sent along; only its truth is known")
        return StoredPicture(
            self.project_id, frozen.name, frozen.content_hash, frozen.suffix, frozen.path, white=frozen.white
        )

    def compare(self, index: int, minimum_score: float, overlap_limit: float) -> dict[str, Any]:
        """Truths and predictions of one picture, each with its mark and its partner.

        Marks: 'hit' and 'miss' for truths; 'hit' and 'false_alarm' for predictions; 'ignored'
        for crowds and for predictions that match one.
        """
        found = self._candidates[index].after_suppression(minimum_score, overlap_limit)
        return marks(self.truths[index], found)


Mark = Literal["hit", "miss", "false_alarm", "ignored"]


def marks(truth: PictureTruth, found: PictureDetections) -> dict[str, Any]:
    """Truths and predictions of a picture, matched class by class and marked."""
    left_out = truth.crowd | truth.ignored
    truths: list[dict[str, Any]] = [
        {
            "class_index": int(label),
            "corners": box.tolist(),
            "mark": "ignored" if skipped else "miss",
            "partner": None,
        }
        for label, box, skipped in zip(truth.classes, truth.boxes, left_out, strict=True)
    ]
    predictions: list[dict[str, Any]] = [
        {
            "class_index": int(label),
            "corners": box.tolist(),
            "score": float(score),
            "mark": "false_alarm",
            "partner": None,
        }
        for label, box, score in zip(found.classes, found.boxes, found.scores, strict=True)
    ]
    for label in np.unique(found.classes):
        mine, real = np.flatnonzero(found.classes == label), np.flatnonzero(truth.classes == label)
        matches = match(
            found.boxes[mine], found.scores[mine], truth.boxes[real], [MATCHING_IOU],
            ignored=truth.ignored[real], crowd=truth.crowd[real],
        )  # fmt: skip
        for place, taken in zip(mine, matches.truth_of_detection[0], strict=True):
            if taken < 0:
                continue
            number = int(real[taken])
            predictions[place] |= {"mark": "ignored" if left_out[number] else "hit", "partner": number}
            if not left_out[number]:
                truths[number] |= {"mark": "hit", "partner": int(place)}
    return {"truths": truths, "predictions": predictions}


def truth_of(folder: DataFolder, evaluation: Evaluation) -> Frozen:
    """The truth that an evaluation is measured on."""
    if evaluation.snapshot is None:
        return kept_truth(folder, evaluation.project_id, evaluation.id).frozen
    kept = held_out_file(folder, evaluation.project_id, evaluation.id)
    if kept.is_file():
        return Frozen.model_validate_json(kept.read_bytes())
    return read_snapshot(folder, evaluation.snapshot)


def load_candidates(path: Path) -> list[Candidates]:
    """What `avocet.work.judge.evaluate` kept. Raises `NotFound` where it is gone."""
    if not path.is_file():
        raise NotFound(f"the predictions of this measurement are missing ({path})")
    with np.load(path, allow_pickle=False) as stored:
        ends = np.cumsum(stored["counts"])[:-1]
        columns = [np.split(stored[name], ends) for name in ("boxes", "scores", "classes")]
    return [
        Candidates(boxes.astype(np.float64), scores.astype(np.float64), classes.astype(np.int64))
        for boxes, scores, classes in zip(*columns, strict=True)
    ]


def _counts(
    hits: NDArray[np.int64], alarms: NDArray[np.int64], asked: NDArray[np.int64]
) -> list[dict[str, int]]:
    """Counts as they are shown, one after the other."""
    return [
        {"hits": hit, "misses": all_of_it - hit, "false_alarms": alarm}
        for hit, alarm, all_of_it in zip(hits.tolist(), alarms.tolist(), asked.tolist(), strict=True)
    ]
