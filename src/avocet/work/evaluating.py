"""Measuring a run, as the worker does it."""

from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy.orm import Session, sessionmaker

from avocet.core.candidates import Candidates
from avocet.detector.predictor import Predictor
from avocet.files import replacing
from avocet.store.folder import DataFolder
from avocet.work.evaluations import get_evaluation
from avocet.work.measuring import find_candidates, measure
from avocet.work.progress import Reporter
from avocet.work.runs import model_path
from avocet.work.snapshots import labelled_pictures, read_snapshot


def run_evaluation(
    sessions: sessionmaker[Session], folder: DataFolder, evaluation_id: int, reporter: Reporter
) -> dict[str, Any]:
    """Find candidates in every picture of the part, keep them, and measure."""
    with sessions() as session:
        evaluation = get_evaluation(session, evaluation_id)
        run = evaluation.run
        frozen = read_snapshot(folder, run.snapshot)
        bundle = model_path(folder, run)
    predictor = Predictor.from_bundle(bundle)
    pictures = labelled_pictures(folder, run.project_id, frozen, evaluation.part)
    candidates = find_candidates(predictor, pictures, reporter)
    report = measure(frozen.classes, pictures, candidates)
    report |= {"epoch": predictor.card.metrics.get("epoch"), "side": predictor.card.side}
    _save(folder.evaluation(run.project_id, evaluation_id), candidates)
    with sessions.begin() as session:
        get_evaluation(session, evaluation_id).report = report
    return {"map50": report["map50"], "map": report["map"]}


def _save(path: Path, candidates: list[Candidates]) -> None:
    counts = np.array([len(each.scores) for each in candidates])
    with replacing(path) as temporary:
        np.savez_compressed(
            temporary,
            counts=counts,
            boxes=np.concatenate([each.boxes for each in candidates]).astype(np.float32),
            scores=np.concatenate([each.scores for each in candidates]).astype(np.float32),
            classes=np.concatenate([each.classes for each in candidates]).astype(np.int32),
        )
