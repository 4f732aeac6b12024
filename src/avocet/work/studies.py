"""How many pictures? Records of studies, and what they say."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.saturation import Saturation, fit_saturation
from avocet.store.folder import DataFolder
from avocet.store.tables import Study
from avocet.work.jobs import create_job
from avocet.work.planning import plan_run
from avocet.work.problems import NotFound
from avocet.work.runs import chosen_settings, labels_to_learn
from avocet.work.snapshots import freeze

SHARES = (0.25, 0.5, 0.75, 1.0)
LEAST_PICTURES = 4


@dataclass(frozen=True)
class Verdict:
    """What a finished study says.

    Attributes
    ----------
    pictures : int
        Training pictures there are.
    curve : Saturation
        Fitted to mAP at 0.50:0.95.
    words : str
    """

    pictures: int
    curve: Saturation
    words: str


def start_study(
    session: Session,
    folder: DataFolder,
    project_id: int,
    chosen: dict[str, Any],
    steps: int,
    seeds: int,
    snapshot_id: int | None = None,
) -> Study:
    """Record a study that waits for the worker.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    project_id : int
    chosen : dict
        Settings as for a run; epochs follow from ``steps``.
    steps : int
        Training steps of each training: equal budgets, whatever the number of pictures.
    seeds : int
        Trainings of each number of pictures.
    snapshot_id : int, optional

    Raises
    ------
    InputError
        If there are too few pictures, or a run could not be started.
    """
    if not 20 <= steps <= 100_000 or not 1 <= seeds <= 10:
        raise InputError(f"a study takes 20 to 100,000 steps and 1 to 10 seeds, not {steps} and {seeds}")
    frozen, snapshot = labels_to_learn(session, folder, project_id, snapshot_id)
    plan = plan_run(frozen, int(chosen.get("side") or 416))
    if plan.obstacles:
        raise InputError("; ".join(plan.obstacles))
    if plan.training < LEAST_PICTURES:
        raise InputError(f"a study needs at least {LEAST_PICTURES} training pictures, not {plan.training}")
    settings = chosen_settings(plan, chosen | {"epochs": 1})
    snapshot = snapshot or freeze(session, folder, project_id)
    counts = sorted({max(1, round(share * plan.training)) for share in SHARES})
    rounds = [{"pictures": count, "seed": settings.seed + seed} for seed in range(seeds) for count in counts]
    job = create_job(session, project_id, "study", "How many pictures?")
    job.total = len(rounds) * steps
    study = Study(
        project_id=project_id,
        snapshot=snapshot,
        job=job,
        settings=settings.as_record() | {"steps": steps},
        plan=rounds,
    )
    session.add(study)
    session.flush()
    job.arguments = {"study_id": study.id}
    return study


def get_study(session: Session, study_id: int) -> Study:
    """The study, or `NotFound`."""
    study = session.get(Study, study_id)
    if study is None:
        raise NotFound(f"there is no study {study_id}")
    return study


def list_studies(session: Session, project_id: int) -> list[Study]:
    """The project's studies, newest first."""
    query = select(Study).where(Study.project_id == project_id).order_by(Study.id.desc())
    return list(session.scalars(query))


def training_pictures(study: Study) -> int:
    """The most training pictures of the study."""
    return max(int(each["pictures"]) for each in study.plan)


def verdict(study: Study) -> Verdict | None:
    """What the study says so far; None before three numbers of pictures were measured."""
    measured = [(each["pictures"], each["map"]) for each in study.results]
    if len({pictures for pictures, _ in measured}) < 3:
        return None
    most = training_pictures(study)
    curve = fit_saturation(
        [pictures for pictures, _ in measured],
        [value for _, value in measured],
        2 * most,
        np.random.default_rng(study.id),
    )
    return Verdict(most, curve, _in_words(curve, most))


def _in_words(curve: Saturation, most: int) -> str:
    gain, low, high = curve.middle - curve.now, curve.low - curve.now, curve.high - curve.now
    said = (
        f"Twice as many pictures ({2 * most}) would bring mAP at 0.50:0.95 from about {curve.now:.2f} to "
        f"{curve.middle:.2f} (90 % interval {curve.low:.2f} to {curve.high:.2f}). "
    )
    if low > 0.02:
        return said + "More pictures are worth the labelling."
    if high < 0.02:
        return said + "More of the same pictures bring little; look at labels, size and side instead."
    if gain > 0.02 and low > -0.02:
        return said + "More pictures will probably help; another seed or two would make it surer."
    return said + "Too uncertain to say; more seeds or more steps would tell."
