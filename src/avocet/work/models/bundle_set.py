"""Model bundles that answer together, or one alone."""

from dataclasses import dataclass
from pathlib import Path

from avocet.core.raw.fusion import FUSION_IOU, Method


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
