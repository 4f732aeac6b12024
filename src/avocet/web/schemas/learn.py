"""Schemas of runs, evaluations and detections."""

from typing import Any, Literal

from pydantic import BaseModel, Field

from avocet.store.tables import Part, PictureState
from avocet.web.schemas.common import JobOut, Request, Schema


class PlanQuery(BaseModel):
    side: int = Field(416, ge=96, le=2048, multiple_of=32)
    snapshot_id: int | None = None


class PlanOut(Schema):
    training: int
    validation: int
    test: int
    unassigned: int
    boxes_by_class: dict[str, int]
    obstacles: list[str]
    warnings: list[str]
    epochs: int
    every_direction: bool
    parameters: dict[str, int]


class RunIn(Request):
    name: str = ""
    snapshot_id: int | None = None
    size: Literal["stint", "dunlin", "curlew"] = "stint"
    side: int = 416
    epochs: int | None = None
    batch: int = 8
    seed: int = 0
    learning_rate: float | None = None
    flips: Literal["none", "sideways", "all"] | None = None


class ValidationOut(Schema):
    box: float
    objectness: float
    classes: float
    map50: float
    map: float
    by_class: dict[str, dict[str, float | int | None]]


class EpochOut(Schema):
    epoch: int
    box: float
    objectness: float
    classes: float
    learning_rate: float
    pictures_per_second: float
    best: bool
    validation: ValidationOut | None = None


class RunOut(Schema):
    id: int
    name: str
    settings: dict[str, Any]
    snapshot_hash: str
    snapshot_pictures: int
    snapshot_boxes: int
    best_epoch: int | None
    best_map50: float | None
    best_map: float | None
    has_model: bool
    created_at: str
    job: JobOut


class RunList(Schema):
    runs: list[RunOut]


class RunDetail(Schema):
    run: RunOut
    epochs: list[EpochOut]


class RunPath(BaseModel):
    run_id: int


class BundlePath(RunPath):
    which: Literal["best", "latest"]


class EvaluationIn(Request):
    run_id: int
    part: Part


class ClassFigures(Schema):
    ap50: float | None
    ap: float | None
    truths: int
    detections: int


class ReportOut(Schema):
    map50: float | None
    map: float | None
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
