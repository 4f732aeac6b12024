"""Models that Judge and Use take: a run's checkpoint, or an ensemble of several runs."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.fusion import FUSION_IOU, Method
from avocet.detector.card import rewrite_card
from avocet.files import replacing
from avocet.store.folder import DataFolder
from avocet.store.tables import Ensemble, Run, now
from avocet.work.problems import NotFound
from avocet.work.projects import get_project
from avocet.work.runs import get_run, model_path

MOST_MEMBERS = 8


@dataclass(frozen=True)
class Bundles:
    """The files behind a model, and how they answer together.

    Attributes
    ----------
    paths : tuple of Path
    weights : tuple of float
    overlap_limit : float
        Of fusion; of no matter for one.
    method : {'fusion', 'suppression'}
    """

    paths: tuple[Path, ...]
    weights: tuple[float, ...] = (1.0,)
    overlap_limit: float = FUSION_IOU
    method: Method = "fusion"


def bundles_of(
    session: Session, folder: DataFolder, run: Run | None, ensemble: Ensemble | None, checkpoint: str = "best"
) -> Bundles:
    """The bundles of a run or an ensemble. Raises `NotFound` where a run has none yet."""
    if run is not None:
        return Bundles((model_path(folder, run, checkpoint),))
    if ensemble is None:
        raise InputError("choose a run or an ensemble")
    members = [(get_run(session, each["run_id"]), float(each["weight"])) for each in ensemble.members]
    paths = tuple(model_path(folder, member) for member, _ in members)
    method: Method = "suppression" if ensemble.method == "suppression" else "fusion"
    return Bundles(paths, tuple(weight for _, weight in members), ensemble.overlap_limit, method)


def make_ensemble(
    session: Session,
    folder: DataFolder,
    project_id: int,
    name: str,
    members: Sequence[tuple[int, float]],
    overlap_limit: float = FUSION_IOU,
    method: Method = "fusion",
) -> Ensemble:
    """Save several runs as one model.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    project_id : int
    name : str
    members : sequence of (int, float)
        Number of each run, and how far it is trusted.
    overlap_limit : float
        IoU from which boxes of different members mean the same object.
    method : {'fusion', 'suppression'}

    Raises
    ------
    InputError
        If there are fewer than two members, one stands twice or belongs to another project, or a
        weight or the limit is out of range.
    """
    get_project(session, project_id)
    if not 2 <= len(members) <= MOST_MEMBERS:
        raise InputError(f"an ensemble has 2 to {MOST_MEMBERS} runs, not {len(members)}")
    if len({run_id for run_id, _ in members}) < len(members):
        raise InputError("a run stands twice among the members")
    if not 0 < overlap_limit < 1:
        raise InputError(f"the overlap limit must lie between 0 and 1, not {overlap_limit}")
    for run_id, weight in members:
        run = get_run(session, run_id)
        if run.project_id != project_id:
            raise NotFound(f"the project has no run {run_id}")
        if not (np.isfinite(weight) and 0 < weight <= 1000):
            raise InputError(f"the weight of {run.name} must lie above 0 and up to 1000, not {weight}")
        model_path(folder, run)
    ensemble = Ensemble(
        project_id=project_id,
        name=name.strip()[:200] or " + ".join(get_run(session, run_id).name for run_id, _ in members)[:200],
        members=[{"run_id": run_id, "weight": weight} for run_id, weight in members],
        method=method,
        overlap_limit=overlap_limit,
    )
    session.add(ensemble)
    session.flush()
    return ensemble


def get_ensemble(session: Session, ensemble_id: int) -> Ensemble:
    """The ensemble, or `NotFound`."""
    found = session.get(Ensemble, ensemble_id)
    if found is None:
        raise NotFound(f"there is no ensemble {ensemble_id}")
    return found


def list_ensembles(session: Session, project_id: int) -> list[Ensemble]:
    """The project's ensembles that are not in the bin, newest first."""
    query = select(Ensemble).where(Ensemble.project_id == project_id, Ensemble.binned_at.is_(None))
    return list(session.scalars(query.order_by(Ensemble.id.desc())))


def bin_ensemble(session: Session, ensemble_id: int, binned: bool) -> Ensemble:
    """Put an ensemble into the bin, or take it back."""
    ensemble = get_ensemble(session, ensemble_id)
    ensemble.binned_at = now() if binned else None
    return ensemble


def members_of(session: Session, ensemble: Ensemble) -> list[dict[str, Any]]:
    """Name, number and weight of each member."""
    return [each | {"name": get_run(session, each["run_id"]).name} for each in ensemble.members]


def choose_minimum_scores(
    session: Session, folder: DataFolder, run_id: int, scores: Mapping[str, float]
) -> Run:
    """Make minimum scores by class the default of a run's model, in its record and in its bundle.

    Raises
    ------
    InputError
        If a class is unknown to the model or a score does not lie between 0 and 1.
    """
    run = get_run(session, run_id)
    path = model_path(folder, run)
    known = run.facts.get("classes", [])
    for name, score in scores.items():
        if known and name not in known:
            raise InputError(f"{run.name} does not know the class {name!r}")
        if not 0 <= score <= 1:
            raise InputError(f"the minimum score of {name} must lie between 0 and 1, not {score}")
    chosen = {name: float(score) for name, score in scores.items()}
    with replacing(path) as temporary:
        rewrite_card(path, temporary, chosen)
    run.minimum_scores = chosen
    return run
