"""What a detection run is to do: what counts, and what comes out."""

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from avocet.core.detections import told_score
from avocet.core.errors import InputError
from avocet.core.raw.candidates import MINIMUM_SCORE, OVERLAP_LIMIT
from avocet.core.raw.suppressing import Method
from avocet.faults import first_fault
from avocet.media.deep import LARGEST_WHITE

Copies = Literal["boxes", "blurred", "pixelated", "filled", "none"]

MOST_CORNERS = 100

SMALLEST_TILE = 64
"""Pixels: the shorter side of what the smallest networks look at."""

NEVER = 9.0
"""More than any score."""


class DetectionOrder(BaseModel):
    """What counts, and what comes out.

    Attributes
    ----------
    minimum_score : float
    minimum_scores : dict of str to float
        Of single classes.
    overlap_limit : float
    suppression : str
        How duplicates go.
    only : list of str
        Classes that count; all where there are none.
    region : list of (float, float)
        Corners of a polygon in parts of the picture's width and height; boxes whose middle lies outside
        do not count. Everything counts where there are none.
    every : int
        Of a clip, every so-many-th frame is looked at.
    a_second : float, optional
        Instead, about so many frames of each second.
    tile : int, optional
        Pictures are looked at in overlapping tiles of so many pixels a side, and as a whole.
    copies : str
        What copies show: the boxes, or the picture with what was found blurred, pixelated or filled; or none
        are made.
    beside : bool
        Copies of clips have the original beside them.
    crops : bool
        Every box as a picture of its own, with a list.
    white : float, optional
        What is white in pictures of more than 8 bits; by default what their files say, else what was white for the
        model, else what the pictures of the run show.
    """

    model_config = ConfigDict(extra="forbid")

    minimum_score: float = Field(MINIMUM_SCORE, ge=0, le=1)
    minimum_scores: dict[str, Annotated[float, Field(ge=0, le=1)]] = {}
    overlap_limit: float = Field(OVERLAP_LIMIT, ge=0, le=1)
    suppression: Method = "by class"
    only: list[str] = Field(default=[], max_length=10_000)
    region: list[tuple[float, float]] = Field(default=[], max_length=MOST_CORNERS)
    every: int = Field(1, ge=1, le=10_000)
    a_second: float | None = Field(None, gt=0, le=1000)
    tile: int | None = Field(None, ge=SMALLEST_TILE, le=20_000)
    copies: Copies = "boxes"
    beside: bool = False
    crops: bool = False
    white: float | None = Field(None, gt=0, le=LARGEST_WHITE)

    @classmethod
    def for_model(cls, about: Mapping[str, Any], wished: Mapping[str, Any]) -> "DetectionOrder":
        """An order in which a model's own minimum scores stand where none is wished: the one rule that the page, the
        command line, HTTP, live work and Python go by.

        Without a wished minimum score every class has the model's own: that chosen for the class, else that of the model.
        A wished one holds for all classes in place of both. In either case one wished for a class goes before.

        Parameters
        ----------
        about : mapping
            What the model says of itself: ``classes``, and where it knows any ``minimum_score`` and ``minimum_scores``.
        wished : mapping
            Fields; None counts as not wished.

        Returns
        -------
        DetectionOrder

        Examples
        --------
        >>> about = {"classes": ["roll", "ring"], "minimum_score": 0.589, "minimum_scores": {"ring": 0.05}}
        >>> one = DetectionOrder.for_model(about, {"minimum_scores": {"roll": 0.9}})
        >>> one.minimum_score, one.minimum_scores
        (0.589, {'ring': 0.05, 'roll': 0.9})
        >>> all_of_them = DetectionOrder.for_model(about, {"minimum_score": 0.4, "minimum_scores": {"roll": 0.9}})
        >>> all_of_them.least_scores(about["classes"]).tolist()
        [0.9, 0.4]

        Raises
        ------
        InputError
            If a field is none or its value cannot be, or a class is unknown to the model.
        """
        fields = {name: value for name, value in wished.items() if value is not None}
        if "minimum_score" not in fields:
            if about.get("minimum_score") is not None:
                fields["minimum_score"] = told_score(about["minimum_score"])
            by_class = {
                name: told_score(score) for name, score in (about.get("minimum_scores") or {}).items()
            }
            fields["minimum_scores"] = by_class | dict(fields.get("minimum_scores") or {})
        order = cls.checked(fields)
        order.check(about["classes"])
        return order

    @classmethod
    def checked(cls, fields: Mapping[str, Any]) -> "DetectionOrder":
        """An order of fields that came from outside. Raises `InputError` with what is wrong."""
        check_limits(fields.get("minimum_score", 0), fields.get("overlap_limit", 0))
        try:
            return cls.model_validate(fields)
        except ValidationError as error:
            first = first_fault(error)
            name, value = ".".join(str(part) for part in first["loc"]), first.get("input")
            said = first["msg"].removeprefix("Input ")
            raise InputError(f"{name.replace('_', ' ')} {said}, not {value!r}") from None

    @property
    def every_frame(self) -> bool:
        """Whether all frames of a clip are looked at."""
        return self.every == 1 and self.a_second is None

    def least_scores(self, classes: Sequence[str]) -> NDArray[np.float64]:
        """The minimum score of each class; above 1 for those that do not count."""
        return np.array(
            [
                NEVER
                if self.only and name not in self.only
                else self.minimum_scores.get(name, self.minimum_score)
                for name in classes
            ]
        )

    def check(self, classes: Sequence[str]) -> None:
        """Raise `InputError` where it does not fit a model's classes, or the region is none."""
        for name in (*self.only, *self.minimum_scores):
            if name not in classes:
                raise InputError(f"the model does not know the class {name!r}")
        if self.a_second is not None and self.every > 1:
            raise InputError("choose every so many frames or so many a second, not both")
        if self.region and len(self.region) < 3:
            raise InputError(f"a region needs three corners or more, not {len(self.region)}")
        for x, y in self.region:
            if not (0 <= x <= 1 and 0 <= y <= 1):
                raise InputError(f"a corner of the region lies at {x:g}, {y:g}, outside of the picture")


def check_limits(minimum_score: float, overlap_limit: float) -> None:
    """Raise `InputError` unless both thresholds lie between 0 and 1."""
    for name, value in (("minimum score", minimum_score), ("overlap limit", overlap_limit)):
        if not 0 <= value <= 1:
            raise InputError(f"the {name} must lie between 0 and 1, not {value}")
