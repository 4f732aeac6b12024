"""Schemas of Anatomy, fusion and ensembles."""

from pydantic import BaseModel, Field

from avocet.core.raw.candidates import MINIMUM_SCORE, OVERLAP_LIMIT
from avocet.core.raw.fusion import FUSION_IOU
from avocet.core.raw.suppressing import Method
from avocet.web.schemas.common import Query, Request, Schema, Whole


class TakeApartIn(Request):
    picture_id: Whole
    checkpoint: str = Field("best", pattern=r"^(best|latest|epoch-\d+)$")


class AnatomyPath(BaseModel):
    job_id: Whole


class LevelOut(Schema):
    stride: int
    rows: int
    columns: int
    anchors: list[tuple[float, float]]
    objectness: list[float]
    best_class: list[int]
    best_anchor: list[int]


class AnatomyTruth(Schema):
    class_index: int
    corners: tuple[float, float, float, float]


class AnatomyOut(Schema):
    """The grids of cells, fine to coarse, and how the picture lies in the input."""

    model: str
    picture: str
    picture_id: int | None
    width: int
    height: int
    class_names: list[str]
    scale: tuple[float, float]
    offset: tuple[float, float]
    input: tuple[int, int]
    levels: list[LevelOut]
    calibrated: bool
    minimum_score: float
    truths: list[AnatomyTruth]


class FateQuery(Query):
    minimum_score: float = Field(MINIMUM_SCORE, ge=0, le=1)
    overlap_limit: float = Field(OVERLAP_LIMIT, ge=0, le=1)
    suppression: Method = "by class"
    sigma: float = Field(0.5, gt=0, le=10)
    most: Whole = Field(1000, ge=1, le=100_000)


class NearQuery(FateQuery):
    truth: Whole = Field(ge=0)


class CandidateOut(Schema):
    number: int
    level: int
    row: int
    column: int
    anchor: int
    corners: tuple[float, float, float, float]
    class_index: int
    score: float
    objectness: float
    left_score: float
    fate: str
    suppressor: int | None
    overlap: float | None
    truth_overlap: float | None


class FatesOut(Schema):
    """``funnel``: candidates in all, above the minimum score, among the best, kept."""

    funnel: tuple[int, int, int, int]
    candidates: list[CandidateOut]


class NearOut(Schema):
    candidates: list[CandidateOut]


class AnatomyCellQuery(Query):
    level: Whole = Field(ge=0)
    row: Whole = Field(ge=0)
    column: Whole = Field(ge=0)
    anchor: Whole = Field(ge=0)


class ArithmeticOut(Schema):
    number: int
    raw: tuple[float, float, float, float, float]
    logits: list[float]
    cell: tuple[int, int]
    stride: int
    reach: float
    anchor: tuple[float, float]
    sigmoid: tuple[float, float, float]
    centre_cells: tuple[float, float]
    centre: tuple[float, float]
    size: tuple[float, float]
    in_input: tuple[float, float, float, float]
    unclipped: tuple[float, float, float, float]
    in_picture: tuple[float, float, float, float]
    scale: tuple[float, float]
    offset: tuple[float, float]
    probabilities: list[float]
    best: int
    product: float
    score: float


class FindBoxesIn(Request):
    picture_id: Whole
    run_ids: list[Whole] = Field(min_length=1, max_length=8)


class FusionIn(Request):
    weights: list[float] = Field(min_length=1, max_length=8)
    overlap_limit: float = Field(FUSION_IOU, gt=0, lt=1)
    minimum_score: float = Field(MINIMUM_SCORE, ge=0, le=1)


class FusedBox(Schema):
    name: str
    corners: tuple[float, float, float, float]
    score: float
    members: int


class FusionOut(Schema):
    """The same boxes combined by weighted box fusion, and all together merely suppressed."""

    fused: list[FusedBox]
    suppressed: list[FusedBox]
    class_names: list[str]
