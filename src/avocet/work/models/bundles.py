"""The files behind a model, and the minimum scores that it is used with."""

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.raw.fusion import FUSION_IOU, Method
from avocet.detector.model.card import read_bundle_parts, rewrite_card
from avocet.files import replacing
from avocet.store.folder import DataFolder
from avocet.store.tables import Ensemble, Run
from avocet.work.job_outcomes import EightBitsTried
from avocet.work.train.runs import EIGHT_BITS, get_run, model_path


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


def keep_eight_bits(
    session: Session,
    folder: DataFolder,
    run_id: int,
    tried: EightBitsTried,
    ranges: Mapping[str, tuple[float, float]],
) -> Run:
    """Record what a run's model is in 8 bits, and write the ranges of its values into its bundle.

    Whoever opens the bundle computes by them; without any in 32 bits.
    """
    run = get_run(session, run_id)
    path = model_path(folder, run)
    if read_bundle_parts(path)[0].value_ranges != ranges:
        with replacing(path) as temporary:
            rewrite_card(path, temporary, value_ranges=dict(ranges))
    run.facts = run.facts | {EIGHT_BITS: tried.model_dump(mode="json")}
    return run


def take_back_eight_bits(session: Session, folder: DataFolder, run_id: int) -> Run:
    """Compute a run's model in 32 bits again. What was found stays with it."""
    run = get_run(session, run_id)
    if EIGHT_BITS not in run.facts:
        return run
    before = run.facts[EIGHT_BITS] | {"used": False, "said": "32 bits are used again"}
    return keep_eight_bits(session, folder, run_id, EightBitsTried.model_validate(before), {})
