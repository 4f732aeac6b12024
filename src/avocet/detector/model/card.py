"""The card of a model bundle, ``model.json``, and the bundle as two parts: the card and the weights' bytes.

It needs no torch, so that records and the server know models without loading it.
"""

import json
import math
import struct
import zipfile
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from avocet.core.detections import told_score
from avocet.core.errors import InputError
from avocet.core.raw.candidates import MEASURING_SCORE, MINIMUM_SCORE
from avocet.core.score.calibration import ScoreMap
from avocet.detector.model.sizes import MOST_ANCHORS, STRIDES, size_named
from avocet.faults import first_fault

FORMAT_VERSION = 1
CARD, WEIGHTS = "model.json", "weights.safetensors"
LEAST_BASE = math.log(MEASURING_SCORE / (1 - MEASURING_SCORE))
"""A map of scores that begins with less would fall."""

MOST_RANGES, LARGEST_VALUE = 2000, 1e6
"""Far more than a network has layers, and farther than its values go."""

LARGEST_CARD, LARGEST_WEIGHTS = 5_000_000, 500_000_000


class ModelCard(BaseModel):
    """What a bundle says about its weights: the contents of ``model.json``.

    Attributes
    ----------
    format_version : int
    size : str
        Wren, Stint, Dunlin or Curlew, in lower case.
    classes : list of str
        In the order of the network's outputs.
    side : int
        Longer side of the input in pixels.
    strides : list of int
    anchors : list
        Level by level, widths and heights in input pixels; a level without any is not used.
    reach : float
        How far a cell's centre can reach, as in `avocet.core.raw.decode.decode`.
    padding : (red, green, blue)
        The colour around a picture in the input: the mean of the training pictures. Bundles of earlier
        versions do not name it; theirs was a grey.
    snapshot : str
        Content hash of the labels it was trained on.
    training : dict
        Settings of the training.
    metrics : dict
        What was measured on the validation pictures.
    calibration : (float, float, float), optional
        Base and slopes of the `avocet.core.score.calibration.ScoreMap` found by its validation; none where scores
        are used as the network gives them.
    minimum_score : float
        Of best F1 on its own validation pictures; what detection uses unless told otherwise.
    minimum_scores : dict of str to float
        By class, what a person chose for the model to be used with.
    white : float, optional
        What was white in the training pictures of more than 8 bits, where it was the same in all of them.
    value_ranges : dict of str to (float, float)
        Of `avocet.detector.engines.eight_bits.value_ranges`: where there are any, processors compute in 8 bits.
    """

    model_config = ConfigDict(extra="ignore")

    format_version: int = FORMAT_VERSION
    size: str
    classes: list[str] = Field(min_length=1, max_length=10_000)
    side: int = Field(ge=32, le=4096, multiple_of=32)
    strides: list[int] = list(STRIDES)
    anchors: list[list[tuple[float, float]]]
    reach: float = Field(gt=0, le=4)
    padding: tuple[int, int, int] = (114, 114, 114)
    snapshot: str = ""
    training: dict[str, Any] = {}
    metrics: dict[str, Any] = {}
    calibration: tuple[float, float, float] | None = None
    minimum_score: float = MINIMUM_SCORE
    minimum_scores: dict[str, float] = {}
    white: float | None = Field(None, gt=0)
    value_ranges: dict[str, tuple[float, float]] = Field(default={}, max_length=MOST_RANGES)

    @field_validator("minimum_score")
    @classmethod
    def _told(cls, score: float) -> float:
        """As scores of boxes are told, so that what reaches it is the same in a measurement, a run and its record."""
        return told_score(score)

    @field_validator("minimum_scores")
    @classmethod
    def _told_by_class(cls, scores: dict[str, float]) -> dict[str, float]:
        return {name: told_score(score) for name, score in scores.items()}

    @property
    def score_map(self) -> ScoreMap | None:
        """What becomes of the network's scores."""
        return score_map(self.calibration)


def score_map(calibration: Sequence[float] | None) -> ScoreMap | None:
    """The map of scores that a card's calibration means, or None.

    Parameters
    ----------
    calibration : (float, float, float), optional

    Examples
    --------
    >>> score_map((-3.0, 1.0, 1.0)).rise, score_map(None) is None
    (1.0, True)
    """
    if calibration is None:
        return None
    base, rise, fall = calibration
    return ScoreMap(base, rise, fall, MEASURING_SCORE)


def rewrite_card(path: Path, target: Path, **changes: Any) -> None:
    """Write a bundle's weights anew under a card that says something else.

    Parameters
    ----------
    path : Path
    target : Path
        The caller renames it into place when all went well.
    **changes
        Fields of `ModelCard`.
    """
    card, content = read_bundle_parts(path)
    write_bundle_parts(target, card.model_copy(update=changes), content)


def write_bundle_parts(path: Path, card: ModelCard, weights: bytes) -> None:
    """Write a bundle of a card and the bytes of its weights."""
    # Without these a bundle is what it was before there were any, byte for byte.
    said = card.model_dump(exclude={name for name in ("white", "value_ranges") if not getattr(card, name)})
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as archive:
        # A fixed date makes the same model the same bytes.
        for name, content in (
            (CARD, json.dumps(said, indent=2, ensure_ascii=False).encode()),
            (WEIGHTS, weights),
        ):
            archive.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), content)


def read_bundle_parts(path: Path) -> tuple[ModelCard, bytes]:
    """The card and the bytes of the weights, both checked as far as can be without a network."""
    if not path.is_file():
        raise InputError(f"{path}: there is no such model bundle")
    try:
        with zipfile.ZipFile(path) as archive:
            names = set(archive.namelist())
            for name, limit in ((CARD, LARGEST_CARD), (WEIGHTS, LARGEST_WEIGHTS)):
                if name not in names:
                    raise InputError(f"{path.name} is not a model bundle: it holds no {name}")
                if archive.getinfo(name).file_size > limit:
                    raise InputError(f"{path.name}: {name} is larger than {limit:,} bytes")
            raw_card, content = archive.read(CARD), archive.read(WEIGHTS)
    except (
        zipfile.BadZipFile,
        zipfile.LargeZipFile,
        NotImplementedError,
        RuntimeError,
        # A name that is not in the encoding that it claims, among others.
        UnicodeDecodeError,
        EOFError,
        OSError,
        zlib.error,
        struct.error,
    ) as error:
        raise InputError(f"{path.name} is not a model bundle: {error}") from None
    return _card(raw_card, path.name), content


def _card(raw: bytes, name: str) -> ModelCard:
    try:
        values = json.loads(raw)
    except (ValueError, RecursionError):
        raise InputError(f"{name}: {CARD} is not JSON") from None
    version = values.get("format_version") if isinstance(values, dict) else None
    if isinstance(version, int) and version > FORMAT_VERSION:
        raise InputError(
            f"{name} has bundle format {version}; this Avocet reads up to {FORMAT_VERSION}. Update it."
        )
    try:
        card = ModelCard.model_validate(values)
    except ValidationError as error:
        first = first_fault(error)
        where = ".".join(str(part) for part in first["loc"])
        raise InputError(f"{name}: {CARD} is not valid at {where or 'its top'}: {first['msg']}") from None
    size_named(card.size)
    counts = [len(level) for level in card.anchors]
    if card.strides != list(STRIDES) or len(counts) != len(STRIDES) or not 0 < sum(counts) <= MOST_ANCHORS:
        raise InputError(
            f"{name}: {CARD} has strides {card.strides} or anchors that this Avocet does not know"
        )
    if any(not 0 <= value <= 255 for value in card.padding):
        raise InputError(f"{name}: {CARD} has the padding {card.padding}, which is no colour")
    if any(not 0 < value < 1e5 for level in card.anchors for pair in level for value in pair):
        raise InputError(f"{name}: {CARD} has an anchor that is not a positive size")
    rises = card.calibration is None or (
        LEAST_BASE < card.calibration[0] <= 100 and all(0 < slope <= 1000 for slope in card.calibration[1:])
    )
    if not rises:
        raise InputError(f"{name}: {CARD} has the calibration {card.calibration}, which does not rise")
    for value, (low, high) in card.value_ranges.items():
        if not -LARGEST_VALUE <= low <= 0 <= high <= LARGEST_VALUE:
            raise InputError(
                f"{name}: {CARD} has the range {low} to {high} for {value[:60]!r}, which is none"
            )
    for label, score in ({"every class": card.minimum_score} | card.minimum_scores).items():
        if not 0 <= score <= 1:
            raise InputError(f"{name}: {CARD} has the minimum score {score} for {label}, not one from 0 to 1")
    return card
