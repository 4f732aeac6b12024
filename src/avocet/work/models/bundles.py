"""The files behind a model, and the minimum scores that it is used with."""

from collections.abc import Mapping
from pathlib import Path

from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.raw.fusion import Method
from avocet.detector.model.card import read_bundle_parts, rewrite_card
from avocet.files import replacing
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Ensemble, Run
from avocet.work.job_outcomes import EightBitsTried
from avocet.work.models.bundle_set import Bundles
from avocet.work.train.runs import EIGHT_BITS, get_run, model_path


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
        rewrite_card(path, temporary, minimum_scores=chosen)
    run.minimum_scores = chosen
    return run


def set_value_ranges(path: Path, ranges: Mapping[str, tuple[float, float]], weights: bytes) -> None:
    """Write the ranges of its values into a bundle: whoever opens it computes in 8 bits by them, without any in 32.

    Raises
    ------
    InputError
        If the bundle has other weights by now than those that the ranges are of.
    """
    card, there = read_bundle_parts(path)
    if there != weights:
        raise InputError("the model was trained on meanwhile; try 8 bits again when it is done")
    if card.value_ranges != ranges:
        with replacing(path) as temporary:
            rewrite_card(path, temporary, value_ranges=dict(ranges))


def keep_eight_bits(session: Session, run_id: int, tried: EightBitsTried) -> Run:
    """Record what a run's model is in 8 bits."""
    run = get_run(session, run_id)
    run.facts = run.facts | {EIGHT_BITS: tried.model_dump(mode="json")}
    return run


def take_back_eight_bits(sessions: Sessions, folder: DataFolder, run_id: int) -> None:
    """Compute a run's model in 32 bits again. What was found stays with it; where 8 bits are not used nothing changes."""
    with reading(sessions)() as session:
        run = get_run(session, run_id)
        if not run.facts.get(EIGHT_BITS, {}).get("used"):
            return
        path = model_path(folder, run)
        before = run.facts[EIGHT_BITS] | {"used": False, "said": "32 bits are used again"}
    set_value_ranges(path, {}, read_bundle_parts(path)[1])
    with sessions.begin() as session:
        keep_eight_bits(session, run_id, EightBitsTried.model_validate(before))
