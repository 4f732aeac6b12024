"""Reading a model's bundles into networks that answer; only the worker does it."""

from avocet.detector.model.ensemble import EnsemblePredictor
from avocet.detector.model.finder import Finder
from avocet.detector.model.predictor import Predictor
from avocet.work.models.bundle_set import Bundles


def open_bundles(bundles: Bundles) -> Finder:
    """Read the files. Raises `InputError` if one is no bundle."""
    members = [Predictor.from_bundle(path) for path in bundles.paths]
    if len(members) == 1:
        return members[0]
    return EnsemblePredictor(members, bundles.weights, bundles.overlap_limit, bundles.method)
