"""The latest checkpoint of a run tried on one picture, also while it trains."""

from avocet.core.raw.candidates import OVERLAP_LIMIT
from avocet.detector.model.predictor import Predictor
from avocet.store.database import reading
from avocet.work.job_givens import RunAndPicture
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import ModelTried
from avocet.work.pictures.files import get_picture, picture_pixels
from avocet.work.train.runs import get_run, newest_model

LEAST_TRIED = 0.05
"""Boxes below this score are not sent to the page, which chooses among the rest."""


def try_model(task: Task[RunAndPicture]) -> ModelTried:
    """What a run's latest checkpoint finds on one picture, also while the run is at work."""
    with reading(task.sessions)() as session:
        run, picture = get_run(session, task.given.run_id), get_picture(session, task.given.picture_id)
        path = newest_model(task.folder, run)
    predictor = Predictor.from_bundle(path)
    pixels = picture_pixels(task.folder, picture)
    found = predictor.candidates([pixels], LEAST_TRIED)[0].after_suppression(LEAST_TRIED, OVERLAP_LIMIT)
    return ModelTried(
        epoch=predictor.card.metrics.get("epoch"),
        picture_id=picture.id,
        boxes=found.boxes.round(2).tolist(),
        scores=found.scores.round(4).tolist(),
        classes=found.classes.tolist(),
        class_names=predictor.card.classes,
    )
