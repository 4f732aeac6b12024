"""A model proposes boxes for pictures that nobody has labelled yet."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import exists, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Job, Picture, PictureState, Proposal
from avocet.work.job_givens import ToPropose
from avocet.work.job_kinds import PROPOSE, Task
from avocet.work.job_outcomes import Proposed
from avocet.work.jobs import create_job, give
from avocet.work.models.chosen import check_class_map, chosen_model
from avocet.work.models.opening import open_bundles
from avocet.work.pictures.files import picture_pixels
from avocet.work.problems import NotFound
from avocet.work.progress import Stopped
from avocet.work.use.proposals import keep_proposals, model_named
from avocet.work.use.running.looking import Looker
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.pipeline import Pipeline, Stage

TOGETHER = 8


def start_proposing(
    session: Session,
    folder: DataFolder,
    run_id: int | None,
    ensemble_id: int | None,
    minimum_score: float | None,
    class_map: Mapping[str, str] | None = None,
) -> Job:
    """Record a job that proposes boxes for all unlabelled pictures of the model's project.

    Raises
    ------
    NotFound, InputError
        If there is no such model, or no unlabelled picture.
    """
    model = chosen_model(session, folder, run_id, ensemble_id)
    check_class_map(session, model.project_id, class_map or {})
    if session.scalar(_unlabelled(model.project_id).limit(1)) is None:
        raise InputError("there is no unlabelled picture to propose boxes for")
    job = create_job(session, model.project_id, PROPOSE, f"{model.name} proposes boxes")
    given = ToPropose(
        project_id=model.project_id,
        run_id=model.run.id if model.run is not None else None,
        ensemble_id=model.ensemble.id if model.ensemble is not None else None,
        minimum_score=minimum_score,
        class_map=dict(class_map or {}),
    )
    give(job, PROPOSE, given)
    return job


def _unlabelled(project_id: int) -> Any:
    return (
        select(Picture)
        .where(
            Picture.project_id == project_id,
            Picture.binned_at.is_(None),
            Picture.state == PictureState.UNLABELLED,
        )
        .order_by(Picture.id)
    )


@dataclass(frozen=True)
class _Seen:
    picture: Picture
    pixels: NDArray[np.uint8] | None
    problem: str = ""


def do_propose(task: Task[ToPropose]) -> Proposed:
    """Propose for one picture after the other; those that have proposals of this model already are left as they are."""
    folder, given = task.folder, task.given
    model = model_named(given.run_id, given.ensemble_id)
    with reading(task.sessions)() as session:
        bundles = chosen_model(session, folder, given.run_id, given.ensemble_id).bundles
        there = exists().where(Proposal.picture_id == Picture.id, Proposal.model == model)
        pictures = list(session.scalars(_unlabelled(given.project_id).where(~there)))
    finder = open_bundles(bundles)
    looker = Looker(finder, DetectionOrder.for_model(finder.about, {"minimum_score": given.minimum_score}))

    def read(some: Sequence[Picture]) -> list[_Seen]:
        return [_read(folder, each) for each in some]

    def find(some: Sequence[_Seen]) -> list[tuple[_Seen, list[Any]]]:
        seen = [each for each in some if each.pixels is not None]
        rows = iter(looker.look([each.pixels for each in seen if each.pixels is not None]))
        return [
            (each, named_here(next(rows)["detections"]) if each.pixels is not None else []) for each in some
        ]

    def named_here(found: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
        return [{**each, "class": given.class_map.get(each["class"], each["class"])} for each in found]

    boxes = with_some = refused = done = 0
    running = Pipeline("listing", [Stage("reading", read, 2), Stage("network", find)]).run(
        _portions(pictures)
    )
    try:
        for some in running:
            with task.sessions.begin() as session:
                for each, found in some:
                    kept = keep_proposals(session, each.picture.id, found, model) if not each.problem else 0
                    boxes, with_some, refused = (
                        boxes + kept,
                        with_some + (kept > 0),
                        refused + bool(each.problem),
                    )
            done += len(some)
            task.reporter.progress(done, len(pictures), f"{done:,} of {len(pictures):,}")
            if task.reporter.should_stop():
                raise Stopped
    finally:
        running.close()
    return Proposed(boxes=boxes, pictures=with_some, looked_at=done, refused=refused)


def _read(folder: DataFolder, picture: Picture) -> _Seen:
    try:
        return _Seen(picture, picture_pixels(folder, picture))
    except (InputError, NotFound) as error:
        return _Seen(picture, None, str(error))


def _portions(pictures: Sequence[Picture]) -> Iterator[Sequence[Picture]]:
    for start in range(0, len(pictures), TOGETHER):
        yield pictures[start : start + TOGETHER]
