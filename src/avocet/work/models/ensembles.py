"""Models that Judge and Use take: a run's checkpoint, or an ensemble of several runs."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.raw.fusion import FUSION_IOU, Method
from avocet.store.folder import DataFolder
from avocet.store.tables import Ensemble, now
from avocet.work.problems import NotFound, by_number
from avocet.work.project.projects import get_project
from avocet.work.train.runs import get_run, model_path

MOST_MEMBERS = 8


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
    return by_number(session, Ensemble, ensemble_id, "ensemble")


def list_ensembles(session: Session, project_id: int, binned: bool = False) -> list[Ensemble]:
    """The project's ensembles, or those in the bin, newest first."""
    where = Ensemble.binned_at.is_not(None) if binned else Ensemble.binned_at.is_(None)
    query = select(Ensemble).where(Ensemble.project_id == project_id, where)
    return list(session.scalars(query.order_by(Ensemble.id.desc())))


def bin_ensemble(session: Session, ensemble_id: int, binned: bool) -> Ensemble:
    """Move an ensemble to the bin, or restore it."""
    ensemble = get_ensemble(session, ensemble_id)
    ensemble.binned_at = now() if binned else None
    return ensemble


def members_of(session: Session, ensemble: Ensemble) -> list[dict[str, Any]]:
    """Name, number and weight of each member."""
    return [each | {"name": get_run(session, each["run_id"]).name} for each in ensemble.members]
