"""Evaluations: a run's best checkpoint measured on a held-out part, and picture by picture."""

from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.candidates import Candidates
from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.errors import InputError
from avocet.core.matching import match
from avocet.formats.record import IGNORE
from avocet.store.folder import DataFolder
from avocet.store.tables import Evaluation, JobState, Part
from avocet.work.jobs import create_job
from avocet.work.problems import NotFound
from avocet.work.runs import get_run, model_path
from avocet.work.snapshots import Frozen, FrozenPicture, read_snapshot

MATCHING_IOU = 0.5
"""IoU from which a prediction counts as a hit on the stage."""


def start_evaluation(session: Session, folder: DataFolder, run_id: int, part: Part) -> Evaluation:
    """Record an evaluation that waits for the worker.

    Raises
    ------
    InputError
        If the part has no labelled picture or is the training part.
    """
    run = get_run(session, run_id)
    model_path(folder, run)
    if part == Part.TRAINING:
        raise InputError("precision is measured on the validation or the test part, not on training pictures")
    if not any(picture.part == part for picture in read_snapshot(folder, run.snapshot).pictures):
        raise InputError(f"the snapshot of run {run.name!r} has no labelled picture in its {part.value} part")
    job = create_job(session, run.project_id, "evaluate", f"Measure {run.name} on {part.value}")
    evaluation = Evaluation(project_id=run.project_id, run=run, job=job, part=part)
    session.add(evaluation)
    session.flush()
    job.arguments = {"evaluation_id": evaluation.id}
    return evaluation


def get_evaluation(session: Session, evaluation_id: int) -> Evaluation:
    """The evaluation, or `NotFound`."""
    evaluation = session.get(Evaluation, evaluation_id)
    if evaluation is None:
        raise NotFound(f"there is no evaluation {evaluation_id}")
    return evaluation


def list_evaluations(session: Session, project_id: int) -> list[Evaluation]:
    """The project's evaluations, newest first."""
    query = select(Evaluation).where(Evaluation.project_id == project_id).order_by(Evaluation.id.desc())
    return list(session.scalars(query))


class Measured:
    """A finished evaluation opened for looking at its pictures.

    Parameters
    ----------
    folder : DataFolder
    evaluation : Evaluation

    Raises
    ------
    NotFound
        If the evaluation is not done.
    """

    def __init__(self, folder: DataFolder, evaluation: Evaluation) -> None:
        if evaluation.job.state != JobState.DONE:
            raise NotFound(f"evaluation {evaluation.id} is not done")
        self.frozen: Frozen = read_snapshot(folder, evaluation.run.snapshot)
        self.pictures: list[FrozenPicture] = [
            picture for picture in self.frozen.pictures if picture.part == evaluation.part
        ]
        self._candidates = _load(folder.evaluation(evaluation.project_id, evaluation.id))
        self.truths = [_truth(picture) for picture in self.pictures]

    def found(self, minimum_score: float, overlap_limit: float) -> list[PictureDetections]:
        """What is found on every picture at two thresholds."""
        return [each.after_suppression(minimum_score, overlap_limit) for each in self._candidates]

    def wall(self, minimum_score: float, overlap_limit: float) -> list[dict[str, Any]]:
        """Counts of hits, misses and false alarms of every picture, in the snapshot's order."""
        rows = []
        for index, picture in enumerate(self.pictures):
            marks = self.compare(index, minimum_score, overlap_limit)
            rows.append(
                {
                    "picture_id": picture.id,
                    "name": picture.name,
                    "width": picture.width,
                    "height": picture.height,
                    "hits": sum(each["mark"] == "hit" for each in marks["predictions"]),
                    "misses": sum(each["mark"] == "miss" for each in marks["truths"]),
                    "false_alarms": sum(each["mark"] == "false_alarm" for each in marks["predictions"]),
                }
            )
        return rows

    def index_of(self, picture_id: int) -> int:
        """Position of a picture, or `NotFound`."""
        for index, picture in enumerate(self.pictures):
            if picture.id == picture_id:
                return index
        raise NotFound(f"picture {picture_id} is not part of this evaluation")

    def compare(self, index: int, minimum_score: float, overlap_limit: float) -> dict[str, Any]:
        """Truths and predictions of one picture, each with its mark and its partner's IoU.

        Marks: 'hit' and 'miss' for truths; 'hit' and 'false_alarm' for predictions; 'ignored'
        for crowds and for predictions that match one.
        """
        picture = self.pictures[index]
        found = self._candidates[index].after_suppression(minimum_score, overlap_limit)
        labels = np.array([box[0] for box in picture.boxes], dtype=np.int64)
        corners = np.array([box[1:5] for box in picture.boxes], dtype=np.float64).reshape(-1, 4)
        crowd, skipped = self.truths[index].crowd, self.truths[index].ignored
        truths = [
            {
                "class_index": int(label),
                "corners": box.tolist(),
                "mark": "ignored" if left_out else "miss",
                "partner": None,
            }
            for label, box, left_out in zip(labels, corners, crowd | skipped, strict=True)
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
            mine, real = np.flatnonzero(found.classes == label), np.flatnonzero(labels == label)
            matches = match(
                found.boxes[mine],
                found.scores[mine],
                corners[real],
                [MATCHING_IOU],
                ignored=skipped[real],
                crowd=crowd[real],
            )
            for place, taken in zip(mine, matches.truth_of_detection[0], strict=True):
                if taken < 0:
                    continue
                truth = int(real[taken])
                left_out = crowd[truth] or skipped[truth]
                predictions[place] |= {"mark": "ignored" if left_out else "hit", "partner": truth}
                if not left_out:
                    truths[truth] |= {"mark": "hit", "partner": int(place)}
        return {"truths": truths, "predictions": predictions}


def _truth(picture: FrozenPicture) -> PictureTruth:
    """A picture's truths. Boxes marked to be ignored are, as in the figures."""
    marked = [bool(picture.attributes.get(number, {}).get(IGNORE)) for number in range(len(picture.boxes))]
    return PictureTruth(
        np.array([box[1:5] for box in picture.boxes], dtype=np.float64).reshape(-1, 4),
        np.array([box[0] for box in picture.boxes], dtype=np.int64),
        np.array(marked, dtype=bool),
        np.array([box[5] for box in picture.boxes], dtype=bool),
    )


def _load(path: Path) -> list[Candidates]:
    if not path.is_file():
        raise NotFound(f"the predictions of this evaluation are missing ({path})")
    with np.load(path, allow_pickle=False) as stored:
        ends = np.cumsum(stored["counts"])[:-1]
        columns = [np.split(stored[name], ends) for name in ("boxes", "scores", "classes")]
    return [
        Candidates(boxes.astype(np.float64), scores.astype(np.float64), classes.astype(np.int64))
        for boxes, scores, classes in zip(*columns, strict=True)
    ]
