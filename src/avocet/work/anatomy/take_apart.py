"""Raw outputs of a model for one picture, as the worker gets them."""

import numpy as np
from numpy.typing import NDArray

from avocet.detector.model.predictor import Predictor
from avocet.store.database import reading
from avocet.work.anatomy.raw import Facts, TakenApart
from avocet.work.job_givens import PictureApart
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import RawKept
from avocet.work.pictures.files import get_picture, picture_pixels
from avocet.work.project.projects import get_project
from avocet.work.train.runs import get_run, model_path


def take_apart(task: Task[PictureApart]) -> RawKept:
    """Keep a model's raw outputs for one picture, to be explained as often as a slider moves."""
    given = task.given
    with reading(task.sessions)() as session:
        run, picture = get_run(session, given.run_id), get_picture(session, given.picture_id)
        path = model_path(task.folder, run, given.checkpoint)
        names = {each.id: each.name for each in get_project(session, run.project_id).classes}
        labels = [(names[box.class_id], box.x1, box.y1, box.x2, box.y2) for box in picture.boxes]
    predictor = Predictor.from_bundle(path)
    pixels = picture_pixels(task.folder, picture)
    apart = take_apart_pixels(predictor, pixels, run.name, picture.name)
    known = [
        (apart.facts.classes.index(name), *corners)
        for name, *corners in labels
        if name in apart.facts.classes
    ]
    apart.facts.truths = known  # type: ignore[assignment]  # a class and four corners each
    apart.facts.picture_id = picture.id
    apart.save(task.folder, task.job_id)
    return RawKept(candidates=len(apart.decoded.boxes))


def take_apart_pixels(
    predictor: Predictor, pixels: NDArray[np.uint8], model: str, picture: str
) -> TakenApart:
    """Raw outputs of a model for one picture."""
    card = predictor.card
    facts = Facts(
        model=model,
        picture=picture,
        picture_id=None,
        width=pixels.shape[1],
        height=pixels.shape[0],
        side=card.side,
        classes=card.classes,
        anchors=card.anchors,
        strides=card.strides,
        reach=card.reach,
        calibration=card.calibration,
        minimum_score=card.minimum_score,
    )
    return TakenApart(facts, predictor.raw_of(pixels))
