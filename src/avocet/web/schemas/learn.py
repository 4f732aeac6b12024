"""Schemas of evaluations and detections."""

from typing import Any, Literal

from pydantic import BaseModel, Field

from avocet.store.tables import Part, PictureState
from avocet.web.schemas.common import JobOut, Request, Schema


class EvaluationIn(Request):
    run_id: int
    part: Part


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


class SizeFigures(Schema):
    map: float | None
    truths: int


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


class EvaluationOut(Schema):
    id: int
    run_id: int
    run_name: str
    part: Part
    report: ReportOut | None
    created_at: str
    job: JobOut


class EvaluationList(Schema):
    evaluations: list[EvaluationOut]


class EvaluationPath(BaseModel):
    evaluation_id: int


class ComparePath(EvaluationPath):
    picture_id: int


class ThresholdQuery(BaseModel):
    minimum_score: float = Field(0.25, ge=0, le=1)
    overlap_limit: float = Field(0.5, ge=0, le=1)


class ConfusionQuery(ThresholdQuery):
    iou: float = Field(0.5, gt=0, le=1)


class ConfusionOut(Schema):
    """Row: the true class, the last for 'nothing there'. Column: the predicted one, the last for 'not found'."""

    class_names: list[str]
    counts: list[list[int]]


class CellQuery(ConfusionQuery):
    row: int = Field(ge=0)
    column: int = Field(ge=0)


class ConfusedBox(Schema):
    picture_id: int
    name: str
    corners: tuple[float, float, float, float]
    score: float | None


class CellOut(Schema):
    total: int
    boxes: list[ConfusedBox]


class OperatingQuery(BaseModel):
    wish: Literal["precision", "recall", "f1", "price"] = "f1"
    amount: float = Field(0.95, gt=0, le=1)
    miss_price: float = Field(1, gt=0, le=1e6)
    alarm_price: float = Field(1, gt=0, le=1e6)
    overlap_limit: float = Field(0.5, ge=0, le=1)


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


class WallOut(Schema):
    class_names: list[str]
    pictures: list[WallRow]


class MarkedBox(Schema):
    class_index: int
    corners: tuple[float, float, float, float]
    mark: Literal["hit", "miss", "false_alarm", "ignored"]
    partner: int | None
    score: float | None = None


class CompareOut(Schema):
    truths: list[MarkedBox]
    predictions: list[MarkedBox]


class DetectionIn(Request):
    run_id: int
    clip_id: int | None = None
    pictures: bool = False
    state: PictureState | None = None
    minimum_score: float = Field(0.25, ge=0, le=1)
    overlap_limit: float = Field(0.5, ge=0, le=1)


class DetectionOut(Schema):
    id: int
    run_id: int
    run_name: str
    source: str
    minimum_score: float
    overlap_limit: float
    summary: dict[str, Any]
    created_at: str
    job: JobOut


class DetectionList(Schema):
    detections: list[DetectionOut]


class DetectionPath(BaseModel):
    detection_id: int


class JobPath(BaseModel):
    job_id: int
