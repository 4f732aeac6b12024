"""Schemas of evaluations and what is told from them."""

from typing import Any, Literal

from pydantic import BaseModel, Field

from avocet.core.raw.candidates import MINIMUM_SCORE, OVERLAP_LIMIT
from avocet.core.score.measurement import AREA_BOUNDS
from avocet.core.score.mistakes import KINDS
from avocet.store.tables import Part
from avocet.web.schemas.common import JobOut, Query, Request, Schema, Whole


class EvaluationIn(Request):
    """What to measure: a run or an ensemble, unless a bundle or detections are sent along."""

    run_id: Whole | None = None
    ensemble_id: Whole | None = None
    checkpoint: str = Field("best", pattern=r"^(best|latest|epoch-\d+)$")
    snapshot_id: Whole | None = None
    part: Part | None = Part.VALIDATION
    interpolation: Literal["101-point", "11-point", "exact-area"] = "101-point"
    areas: tuple[float, float] = AREA_BOUNDS
    class_map: dict[str, str] = Field(default_factory=dict)
    on_cluster: bool = Field(False, description="By the machines of the server's cluster")


class ClassMapIn(Request):
    class_map: dict[str, str]


class ClassSize(Schema):
    ap: float | None
    interval: tuple[float, float] | None = None
    truths: int


class ClassFigures(Schema):
    ap50: float | None
    ap: float | None
    truths: int
    detections: int
    ap50_interval: tuple[float, float] | None = None
    ap_interval: tuple[float, float] | None = None
    hits: int | None = None
    false_alarms: int | None = None
    misses: int | None = None
    sizes: dict[str, ClassSize] = Field(default_factory=dict)


class SizeFigures(Schema):
    map: float | None
    interval: tuple[float, float] | None = None
    truths: int


class MistakeFigures(Schema):
    count: int
    gain: float | None


class ReportOut(Schema):
    map50: float | None
    map75: float | None = None
    map: float | None
    map50_interval: tuple[float, float] | None = None
    map_interval: tuple[float, float] | None = None
    sizes: dict[str, SizeFigures] = Field(default_factory=dict)
    recall: dict[str, float | None] = Field(default_factory=dict)
    flawless: int | None = None
    resamples: int | None = None
    classes: dict[str, ClassFigures]
    pictures: int
    overlap_limit: float
    lowest_score: float
    epoch: int | None = None
    side: int | None = None
    size: str | None = None
    interpolation: str = "101-point"
    area_bounds: tuple[float, float] = AREA_BOUNDS
    mistakes: dict[str, MistakeFigures] = Field(default_factory=dict)
    calibration_error: float | None = None
    calibration_error_before: float | None = None
    minimum_score: float | None = None
    milliseconds: float | None = None
    problems: list[str] = Field(default_factory=list)


class EvaluationOut(Schema):
    id: int
    name: str
    run_id: int | None
    ensemble_id: int | None
    snapshot_id: int | None
    snapshot_hash: str | None
    part: Part | None
    settings: dict[str, Any]
    report: ReportOut | None
    looks: int
    created_at: str
    job: JobOut


class EvaluationList(Schema):
    evaluations: list[EvaluationOut]
    looks_at_test: int


class EvaluationPath(BaseModel):
    evaluation_id: Whole


class MeasuredPicturePath(EvaluationPath):
    picture_id: Whole


class ThresholdQuery(Query):
    minimum_score: float = Field(MINIMUM_SCORE, ge=0, le=1)
    overlap_limit: float = Field(OVERLAP_LIMIT, ge=0, le=1)


class ConfusionQuery(ThresholdQuery):
    iou: float = Field(0.5, gt=0, le=1)


class ConfusionOut(Schema):
    """Row: the true class, the last for 'nothing there'. Column: the predicted one, the last for 'not found'."""

    class_names: list[str]
    counts: list[list[int]]


class ConfusionCellQuery(ConfusionQuery):
    row: Whole = Field(ge=0)
    column: Whole = Field(ge=0)


class ConfusedBox(Schema):
    picture_id: int
    name: str
    corners: tuple[float, float, float, float]
    score: float | None
    truth: tuple[float, float, float, float] | None


class CellOut(Schema):
    total: int
    boxes: list[ConfusedBox]


class OperatingQuery(Query):
    wish: Literal["precision", "recall", "f1", "price"] = "f1"
    amount: float = Field(0.95, gt=0, le=1)
    miss_price: float = Field(1, gt=0, le=1e6)
    alarm_price: float = Field(1, gt=0, le=1e6)
    overlap_limit: float = Field(OVERLAP_LIMIT, ge=0, le=1)


class ClassOperating(Schema):
    name: str
    truths: int
    score: float | None
    precision: float | None
    recall: float | None
    f1: float | None
    curve: list[tuple[float, float, float]] = Field(description="Minimum score, precision, recall")


class OperatingOut(Schema):
    classes: list[ClassOperating]


class WallRow(Schema):
    picture_id: int
    name: str
    width: int
    height: int
    hits: int
    misses: int
    false_alarms: int
    lowest_iou: float | None


class ClassCounts(Schema):
    name: str
    hits: int
    misses: int
    false_alarms: int


class WallOut(Schema):
    class_names: list[str]
    pictures: list[WallRow]
    classes: list[ClassCounts]


class MarkedBox(Schema):
    class_index: int
    corners: tuple[float, float, float, float]
    mark: Literal["hit", "miss", "false_alarm", "ignored"]
    partner: int | None
    score: float | None = None


class CompareOut(Schema):
    truths: list[MarkedBox]
    predictions: list[MarkedBox]


class MarkedQuery(ThresholdQuery):
    picture_ids: list[Whole] = Field(min_length=1, max_length=200)


class MarkedPicture(CompareOut):
    picture_id: Whole
    width: Whole
    height: Whole


class MarkedOut(Schema):
    class_names: list[str]
    pictures: list[MarkedPicture]


class CurveQuery(ThresholdQuery):
    ious: list[float] = Field(default=[0.5, 0.75, 0.9], min_length=1, max_length=10)


class PrecisionRecall(Schema):
    name: str
    iou: float
    average_precision: float | None
    curve: list[tuple[float, float, float]] = Field(description="Recall, precision, score")
    point: tuple[float, float] | None = Field(description="Recall and precision at the minimum score")


class CurvesOut(Schema):
    curves: list[PrecisionRecall]


class CalibrationQuery(Query):
    overlap_limit: float = Field(OVERLAP_LIMIT, ge=0, le=1)
    class_index: Whole | None = Field(None, ge=0)


class ReliabilityOut(Schema):
    edges: list[float]
    counts: list[int]
    mean_score: list[float | None]
    share_right: list[float | None]
    expected_error: float | None


class CalibrationOut(ReliabilityOut):
    """``before``: of the same predictions with the scores that the network gave them."""

    lowest_score: float
    before: ReliabilityOut | None


class MistakeKind(Schema):
    number: int
    name: str
    count: int
    gain: float | None


class MistakesOut(Schema):
    kinds: list[MistakeKind]


class MistakenQuery(ThresholdQuery):
    kind: Whole = Field(ge=0, lt=len(KINDS))


class MistakenBox(ConfusedBox):
    kind: str
    predicted: str | None
    true: str | None
    overlap: float


class MistakenOut(Schema):
    total: int
    boxes: list[MistakenBox]


class OverlapQuery(Query):
    overlap_limit: float = Field(OVERLAP_LIMIT, ge=0, le=1)


class DoubtOut(Schema):
    number: int
    kind: Literal["unlabelled", "other class", "badly placed", "background"]
    likelihood: float
    picture_id: int
    name: str
    labelled: str | None
    predicted: str | None
    label: tuple[float, float, float, float] | None
    prediction: tuple[float, float, float, float] | None
    score: float | None
    state: Literal["open", "mended", "fine", "gone"]


class DoubtList(Schema):
    total: int
    doubts: list[DoubtOut]


class DoubtPath(EvaluationPath):
    number: Whole


class DoubtFineIn(Request):
    fine: bool


class AcceptedOut(Schema):
    change_id: int
    title: str


class BesidePath(EvaluationPath):
    other_id: Whole


class FigureCompared(Schema):
    name: str
    first: float | None
    second: float | None
    low: float | None
    high: float | None
    more_than_chance: bool
    verdict: str


class PictureCompared(Schema):
    picture_id: int
    name: str
    first_errors: int
    second_errors: int


class BesideOut(Schema):
    first_name: str
    second_name: str
    words: str
    figures: list[FigureCompared]
    pictures: list[PictureCompared]
    both_right: int
    only_first: int
    only_second: int
    neither: int
