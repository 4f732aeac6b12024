"""Schemas of planning, running, watching and comparing trainings."""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from avocet.web.schemas.common import JobOut, Query, Request, Schema, Whole
from avocet.work.job_outcomes import EightBitsTried
from avocet.work.train.ahead.choices import BATCH, SIDE, SIDE_OR_NONE, SettingsIn


class PlanQuery(Query):
    side: Whole | None = SIDE_OR_NONE
    batch: Whole = BATCH
    snapshot_id: Whole | None = None


class SideAdviceOut(Schema):
    side: int
    small: float
    cost: float


class PlanOut(Schema):
    training: int
    validation: int
    test: int
    unassigned: int
    boxes_by_class: dict[str, int]
    obstacles: list[str]
    warnings: list[str]
    epochs: int
    passes: int
    every_direction: bool
    parameters: dict[str, int]
    trained_if_frozen: dict[str, float]
    sized: int
    sides: list[SideAdviceOut]
    advised_side: int
    own_side: int
    side: int


class RunIn(Request):
    name: str = ""
    snapshot_id: Whole | None = None
    settings: SettingsIn = SettingsIn()
    start: Whole | Literal["shipped"] | None = Field(
        None, description="A run's number, or the shipped weights"
    )
    watched: list[Whole] = Field([], max_length=48)
    on_cluster: bool = Field(False, description="By all machines of the server's cluster together")
    apart: bool = Field(
        False, description="By one machine of the cluster, so that several runs go on at once"
    )


class ValidationOut(Schema):
    box: float
    objectness: float
    classes: float
    map50: float
    map: float
    by_class: dict[str, dict[str, float | int | None]]
    minimum_score: float | None = None
    calibration: tuple[float, float, float] | None = None


class EpochOut(Schema):
    epoch: int
    box: float
    objectness: float
    classes: float
    learning_rate: float
    pictures_per_second: float
    seconds: float = 0.0
    best: bool
    validation: ValidationOut | None = None


class RunOut(Schema):
    id: int
    name: str
    note: str
    binned: bool
    settings: dict[str, Any]
    facts: dict[str, Any]
    eight_bits: EightBitsTried | None
    snapshot_id: int
    snapshot_hash: str
    snapshot_name: str
    snapshot_pictures: int
    snapshot_boxes: int
    held_out: str = Field(description="The same where runs were validated on the same pictures and truths")
    best_epoch: int | None
    best_map50: float | None
    best_map: float | None
    has_model: bool
    minimum_score: float | None = Field(description="Of best F1 in its own validation")
    minimum_scores: dict[str, float]
    created_at: str
    job: JobOut


class RunList(Schema):
    runs: list[RunOut]
    differing: list[str]


class HintOut(Schema):
    kind: str
    epoch: int
    text: str


class RunDetail(Schema):
    run: RunOut
    epochs: list[EpochOut]
    hints: list[HintOut]
    models: list[str] = Field(description="Checkpoints that can be downloaded")


class StepCurve(Schema):
    """The training loss step by step; of a long run each point is the mean of some steps."""

    steps_per_epoch: int
    points: list[tuple[float, float]]


class GroupQuery(Query):
    by: str


class GroupOut(Schema):
    value: str
    runs: list[int]
    mean_map50: float
    mean_map: float
    spread_map50: float | None
    spread_map: float | None
    comparable: bool


class GroupList(Schema):
    groups: list[GroupOut]


class RunChange(Request):
    name: str | None = None
    note: str | None = None


class ExtendIn(Request):
    epochs: Whole


class RunPath(BaseModel):
    run_id: Whole


class BundlePath(RunPath):
    which: str = Field(pattern=r"^(best|latest|epoch-\d{5})$")


class LogOut(Schema):
    lines: list[str]


class WatchedTruth(Schema):
    class_index: int
    corners: tuple[float, float, float, float]


class WatchedPicture(Schema):
    picture_id: int
    name: str
    width: int
    height: int
    truths: list[WatchedTruth]


class WatchOut(Schema):
    class_names: list[str]
    pictures: list[WatchedPicture]
    epochs: list[int]


class WatchPath(RunPath):
    epoch: Whole


class Predicted(Schema):
    boxes: list[tuple[float, float, float, float]]
    scores: list[float]
    classes: list[int]


class WatchedEpoch(Schema):
    epoch: int
    pictures: list[Predicted]


class LookIn(Request):
    """A look ahead: at anchors, augmented pictures, sizes or the time it takes."""

    snapshot_id: Whole | None = None
    settings: SettingsIn = SettingsIn()
    draw: Whole = Field(0, ge=0, lt=2**32, description="Seed of the augmented pictures")


class LookPath(BaseModel):
    project_id: Whole
    look: Literal["anchors", "augmented", "sizes", "estimate"]


class TryIn(Request):
    picture_id: Whole


class EffectIn(Request):
    side: Whole = SIDE
    anchors: list[Annotated[list[tuple[float, float]], Field(max_length=64)]] = Field(
        min_length=1, max_length=8
    )
    snapshot_id: Whole | None = None


class EffectOut(Schema):
    mean_iou: float
    poor: float
    held: list[list[int]]


class SheetPath(BaseModel):
    job_id: Whole
    number: Whole = Field(ge=0, lt=1000)


class StudyIn(Request):
    snapshot_id: Whole | None = None
    settings: SettingsIn = SettingsIn()
    steps: Whole = 150
    seeds: Whole = 1
    on_cluster: bool = Field(False, description="By the machines of the server's cluster")


class StudyResult(Schema):
    pictures: int
    seed: int
    map: float
    map50: float


class StudyVerdict(Schema):
    pictures: int
    words: str
    now: float
    low: float
    middle: float
    high: float
    curve: list[tuple[float, float]]


class StudyOut(Schema):
    id: int
    settings: dict[str, Any]
    snapshot_hash: str
    planned: int
    results: list[StudyResult]
    verdict: StudyVerdict | None
    created_at: str
    job: JobOut


class StudyList(Schema):
    studies: list[StudyOut]
