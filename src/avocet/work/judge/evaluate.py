"""Measuring a model, as the worker does it."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.raw.candidates import EVERY_SCORE, MEASURING_SCORE, MINIMUM_SCORE, OVERLAP_LIMIT, Candidates
from avocet.core.score.measurement import AREA_BOUNDS
from avocet.detector.model.card import score_map
from avocet.detector.model.finder import Finder
from avocet.files import replacing
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Evaluation, Part
from avocet.work.cluster.asked import cluster_if
from avocet.work.cluster.finding import finding
from avocet.work.job_givens import ForEvaluation
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import Evaluated
from avocet.work.judge.evaluations import DETECTIONS, MODEL, TRUTH, get_evaluation, sent_file
from avocet.work.judge.report import by_name, find_candidates, measure, milliseconds
from avocet.work.judge.sent import (
    Numbers,
    bring_truth,
    keep_held_out,
    keep_truth,
    numbers_of,
    read_detections,
    strange_categories,
)
from avocet.work.models.bundle_set import Bundles
from avocet.work.models.bundles import bundles_of
from avocet.work.models.opening import open_bundles
from avocet.work.pictures.white import ProjectWhite, project_white
from avocet.work.snapshots.frozen import Frozen, labelled_pictures, truth_in
from avocet.work.snapshots.snapshots import read_snapshot


@dataclass(frozen=True)
class _Wanted:
    """An evaluation as far as its worker needs it, away from the database."""

    evaluation_id: int
    project_id: int
    part: Part | None
    settings: dict[str, Any]
    bundles: Bundles | None
    detections: Path | None
    white: ProjectWhite


def do_evaluation(task: Task[ForEvaluation]) -> Evaluated:
    """Find candidates in every picture, or read those that were sent; keep them, and measure.

    Raises
    ------
    InputError
        If a truth, a bundle or detections that were sent cannot be used, or no class of the
        model is one of the truth.
    Stopped
        If a person asked to stop.
    """
    try:
        return _evaluate(task)
    except BaseException:
        if task.given.former_job_id is not None:
            # The figures that are there are those of the job before.
            with task.sessions.begin() as session:
                get_evaluation(session, task.given.evaluation_id).job_id = task.given.former_job_id
        raise


def _evaluate(task: Task[ForEvaluation]) -> Evaluated:
    sessions, folder, evaluation_id = task.sessions, task.folder, task.given.evaluation_id
    again = {} if task.given.class_map is None else {"class_map": task.given.class_map, "strange": []}
    with reading(sessions)() as session:
        evaluation = get_evaluation(session, evaluation_id)
        wanted = _wanted(session, folder, evaluation, again)
        frozen, numbers, problems = _truth(folder, evaluation, wanted)
    pictures = [each for each in frozen.pictures if each.part == wanted.part]
    if wanted.detections is not None:
        name = wanted.settings["sent"][DETECTIONS]
        try:
            candidates = read_detections(
                wanted.detections, name, numbers, len(pictures), wanted.settings["class_map"]
            )
        except InputError:
            _ask_for_classes(sessions, evaluation_id, strange_categories(wanted.detections, numbers), frozen)
            raise
        # Another program has suppressed its duplicates itself.
        extra: dict[str, Any] = {}
        minimum_score = MINIMUM_SCORE
        overlap_limit, lowest_score = 1.0, EVERY_SCORE
    else:
        assert wanted.bundles is not None
        predictor = open_bundles(wanted.bundles)
        unknown = _unknown(predictor, frozen, wanted.settings["class_map"])
        if len(unknown) == len(frozen.classes):
            strangers = [name for name in predictor.classes if name not in wanted.settings["class_map"]]
            _ask_for_classes(sessions, evaluation_id, strangers, frozen)
            raise InputError(
                f"the model knows the classes {', '.join(predictor.classes)}; the truth has only others: "
                f"{', '.join(frozen.classes)}. Say which class each means."
            )
        if unknown:
            problems = [
                *problems,
                f"the model does not know {', '.join(unknown)}; never found, they count as 0",
            ]
        labelled = labelled_pictures(folder, wanted.project_id, frozen, wanted.part)
        address, title = cluster_if(task.given.on_cluster), f"Measurement {evaluation_id}"
        with finding(address, predictor, wanted.bundles, title) as (finder, at_once):
            raw = find_candidates(finder, labelled, task.reporter, at_once)
        candidates = by_name(raw, _renamed(predictor, wanted.settings["class_map"]), frozen.classes)
        extra = {"milliseconds": milliseconds(predictor, labelled)} | {
            name: predictor.about.get(name) for name in ("epoch", "side", "size", "calibration")
        }
        minimum_score = predictor.about.get("minimum_score", MINIMUM_SCORE)
        overlap_limit, lowest_score = OVERLAP_LIMIT, MEASURING_SCORE
    report = measure(
        frozen.classes,
        [truth_in(picture) for picture in pictures],
        candidates,
        overlap_limit,
        wanted.settings["interpolation"],
        wanted.settings["areas"],
        minimum_score,
        score_map(extra.get("calibration")),
        lowest_score,
    )
    report |= extra | {"problems": problems[:50]}
    save_candidates(folder.evaluation(wanted.project_id, evaluation_id), candidates)
    with sessions.begin() as session:
        evaluation = get_evaluation(session, evaluation_id)
        evaluation.report, evaluation.settings = report, evaluation.settings | again
    return Evaluated(map50=report["map50"], map=report["map"])


def save_candidates(path: Path, candidates: Sequence[Candidates]) -> None:
    """Keep candidates for `avocet.work.judge.opened`."""
    counts = np.array([len(each.scores) for each in candidates], dtype=np.int64)
    with replacing(path) as temporary:
        np.savez_compressed(
            temporary,
            counts=counts,
            boxes=np.concatenate([np.zeros((0, 4)), *(each.boxes for each in candidates)]).astype(np.float32),
            scores=np.concatenate([np.zeros(0), *(each.scores for each in candidates)]),
            classes=np.concatenate([np.zeros(0), *(each.classes for each in candidates)]).astype(np.int32),
        )


def _wanted(session: Session, folder: DataFolder, evaluation: Evaluation, again: dict[str, Any]) -> _Wanted:
    # What was measured before the table had settings.
    defaults = {
        "checkpoint": "best",
        "interpolation": "101-point",
        "areas": list(AREA_BOUNDS),
        "class_map": {},
        "sent": {},
    }
    settings = defaults | evaluation.settings | again
    sent = settings["sent"]
    bundles, detections = None, None
    if DETECTIONS in sent:
        detections = sent_file(folder, evaluation, DETECTIONS, sent[DETECTIONS])
    elif MODEL in sent:
        bundles = Bundles((sent_file(folder, evaluation, MODEL, sent[MODEL]),))
    else:
        bundles = bundles_of(session, folder, evaluation.run, evaluation.ensemble, settings["checkpoint"])
    white = project_white(session, evaluation.project_id)
    return _Wanted(
        evaluation.id, evaluation.project_id, evaluation.part, settings, bundles, detections, white
    )


def _truth(folder: DataFolder, evaluation: Evaluation, wanted: _Wanted) -> tuple[Frozen, Numbers, list[str]]:
    if evaluation.snapshot is not None:
        frozen = read_snapshot(folder, evaluation.snapshot)
        keep_held_out(folder, evaluation, frozen)
        return frozen, numbers_of(frozen, wanted.part), []
    name = wanted.settings["sent"][TRUTH]
    path = sent_file(folder, evaluation, TRUTH, name)
    truth = bring_truth(folder, wanted.project_id, path, name, None, wanted.detections is None, wanted.white)
    keep_truth(folder, wanted.project_id, evaluation.id, truth)
    numbers = Numbers(dict(truth.images), dict(truth.categories), truth.frozen.classes)
    return truth.frozen, numbers, truth.problems


def _renamed(predictor: Finder, class_map: dict[str, str]) -> list[str]:
    return [class_map.get(name, name) for name in predictor.classes]


def _unknown(predictor: Finder, frozen: Frozen, class_map: dict[str, str]) -> list[str]:
    known = set(_renamed(predictor, class_map))
    return [name for name in frozen.classes if name not in known]


def _ask_for_classes(sessions: Sessions, evaluation_id: int, strange: list[str], frozen: Frozen) -> None:
    """Note which classes the person has to map, so that the page can ask."""
    if strange:
        with sessions.begin() as session:
            evaluation = get_evaluation(session, evaluation_id)
            evaluation.settings = evaluation.settings | {"strange": strange, "truth_classes": frozen.classes}
