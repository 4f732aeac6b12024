"""The kinds of job: what each is given, what it comes to, which worker does it, and whether it goes on.

One table from which the queue, the worker, resuming and the page draw. To add a kind, add an entry
here and write the function that it names.
"""

import enum
from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import Any, Generic, TypeVar

from pydantic import BaseModel, ConfigDict, Field

from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, PictureState
from avocet.work import job_outcomes as outcomes
from avocet.work.job_outcomes import Outcome
from avocet.work.progress import Reporter


class Lane(enum.StrEnum):
    """A queue with a worker process of its own.

    Whoever looks at a file of labels should not have to wait for a clip, and nobody for a
    training to end.
    """

    COMPUTE = "compute"
    """What keeps all cores busy: training, measuring, detection."""

    MEDIA = "media"
    """Pictures and clips coming in."""

    CHANGES = "changes"
    """Changes to very many pictures, one after the other: a person waits for them."""

    LABELS = "labels"
    """Labels read and written out, frozen, looked through."""

    LIVE = "live"
    """What goes on until somebody stops it: cameras and watched folders, several at once."""

    LOOKS = "looks"
    """Looks at a run before it starts or while it trains, and into a model."""


class Given(BaseModel):
    """What a job is given: kept with it as JSON, checked when the worker takes it up."""

    model_config = ConfigDict(extra="forbid")


class ForProject(Given):
    project_id: int


class ForRun(Given):
    run_id: int


class ForStudy(Given):
    study_id: int


class ForEvaluation(Given):
    """``class_map`` is that of measuring once more; ``former_job_id`` made the figures that are there already."""

    evaluation_id: int
    class_map: dict[str, str] | None = None
    former_job_id: int | None = None


class DetectionInputs(Given):
    """What a detection run goes over: files that came along, a clip, a folder, or pictures of the project.

    ``files`` are pairs of stored and sent name; ``last_picture_id`` leaves out what was added later.
    """

    detection_id: int
    files: list[tuple[str, str]] = Field(default_factory=list)
    clip_id: int | None = None
    server_folder: str | None = None
    pictures: bool = False
    state: PictureState | None = None
    last_picture_id: int | None = None


class FoundToCollect(Given):
    """``places`` are those of pictures and frames in the run's record."""

    detection_id: int
    places: list[int] = Field(min_length=1, max_length=2000)
    minimum_score: float | None = None


class ToPropose(Given):
    """For the pictures of the project that are unlabelled when the worker comes to it."""

    project_id: int
    run_id: int | None = None
    ensemble_id: int | None = None
    minimum_score: float | None = None


class ForLive(Given):
    live_id: int


class KeptToCollect(Given):
    address_id: int
    files: list[str] = Field(min_length=1, max_length=500)


class ClipFrames(Given):
    clip_id: int
    per_second: float


class SentArchive(ForProject):
    token: str


class FolderToTake(ForProject):
    path: str
    copied: bool


class SplitOrder(ForProject):
    ratios: tuple[float, float, float]
    seed: int = 0
    whole_sources: bool = True


class ChosenPictures(ForProject):
    ids: list[int]


class PicturesToPart(ChosenPictures):
    part: Part | None


class PicturesToBin(ChosenPictures):
    binned: bool


class PicturesToTag(ChosenPictures):
    tag: str
    on: bool


class PicturesToFinish(ChosenPictures):
    """Pictures in progress that are done."""


class BoxesToChange(ForProject):
    """``class_id`` is the class that the boxes get; None deletes them."""

    ids: list[int]
    class_id: int | None


class ClassToMerge(ForProject):
    class_id: int
    into_id: int


class NamedChoice(BaseModel):
    """One of several values, and what it was called before."""

    value: str
    was: str | None = None


class AttributeToChange(ForProject):
    attribute_id: int
    name: str | None = None
    choices: list[NamedChoice] | None = None
    removed: bool = False


class ChangeToUndo(ForProject):
    change_id: int


class SentLabels(ForProject):
    token: str
    format: str | None = None
    columns: outcomes.ColumnsRead | None = None


class ChosenLabels(SentLabels):
    targets: dict[str, int | str] = Field(default_factory=dict)
    replace: bool = False


class LabelsToWrite(ForProject):
    format: str
    table_kind: str = "corners"


class FreezeOrder(ForProject):
    """What to freeze, and how."""

    name: str = ""
    note: str = ""
    filter: dict[str, Any] = Field(default_factory=dict)
    class_map: dict[int, int | None] = Field(default_factory=dict)
    new_names: dict[int, str] = Field(default_factory=dict)


class RunOrder(ForProject):
    """A run to be started: its labels are frozen first. ``start`` as in `avocet.work.train.runs`."""

    settings: dict[str, Any]
    name: str = ""
    snapshot_id: int | None = None
    start: int | str | None = None
    watched: list[int] = Field(default_factory=list)


class StudyOrder(ForProject):
    settings: dict[str, Any]
    steps: int
    seeds: int
    snapshot_id: int | None = None


class SnapshotArchive(Given):
    snapshot_id: int
    format: str
    with_pictures: bool


class SnapshotPair(Given):
    earlier_id: int
    later_id: int


class LookAhead(ForProject):
    """``settings`` as chosen: what is missing is chosen from the labels, in the worker."""

    snapshot_id: int | None
    settings: dict[str, Any]
    draw: int = 0


class RunAndPicture(Given):
    run_id: int
    picture_id: int


class PictureApart(RunAndPicture):
    checkpoint: str = "best"


class RunsAndPicture(Given):
    run_ids: list[int]
    picture_id: int


G = TypeVar("G", bound=Given)
O = TypeVar("O", bound=Outcome)  # noqa: E741 (given and outcome)


@dataclass(frozen=True)
class Task(Generic[G]):
    """A job as the function that does it gets it."""

    sessions: Sessions
    folder: DataFolder
    job_id: int
    given: G
    reporter: Reporter
    enqueue: Callable[[int, str], None]
    """Hands another recorded job over, by its number and kind."""


@dataclass(frozen=True)
class JobKind(Generic[G, O]):
    """A kind of job.

    Attributes
    ----------
    key : str
        As it is kept with the job.
    lane : Lane
    given, outcome : type
    does : str
        ``module:function`` below `avocet.work`, imported with the first job that needs it, so that
        workers are up at once and the server never imports torch.
    resumable : bool
        A person can let it go on where it was broken off: it does nothing twice, or it makes one thing,
        from the beginning.
    short : bool
        A look of a second or two, shown by the page that asked and not among long work.
    """

    key: str
    lane: Lane
    given: type[G]
    outcome: type[O]
    does: str
    resumable: bool = False
    short: bool = False

    def action(self) -> Callable[[Task[G]], O]:
        """The function that does it."""
        module, name = self.does.split(":")
        found: Callable[[Task[G]], O] = getattr(import_module(f"avocet.work.{module}"), name)
        return found


TRAIN = JobKind("train", Lane.COMPUTE, ForRun, outcomes.Trained, "train.training:do_training")
STUDY = JobKind("study", Lane.COMPUTE, ForStudy, outcomes.Studied, "train.study_run:do_study", resumable=True)
EVALUATE = JobKind(
    "evaluate", Lane.COMPUTE, ForEvaluation, outcomes.Evaluated, "judge.evaluate:do_evaluation"
)
DETECT = JobKind(
    "detect", Lane.COMPUTE, DetectionInputs, outcomes.Detected, "use.run:do_detection", resumable=True
)

SAMPLE_CLIP = JobKind(
    "sample_clip", Lane.MEDIA, ClipFrames, outcomes.FramesTaken, "pictures.clips:do_sampling", resumable=True
)
COLLECT_FOUND = JobKind(
    "collect_found",
    Lane.MEDIA,
    FoundToCollect,
    outcomes.FoundCollected,
    "use.collecting:do_collect",
    resumable=True,
)
COLLECT_KEPT = JobKind(
    "collect_kept",
    Lane.MEDIA,
    KeptToCollect,
    outcomes.FoundCollected,
    "addresses.collecting:do_collect_kept",
    resumable=True,
)
PROPOSE = JobKind(
    "propose", Lane.MEDIA, ToPropose, outcomes.Proposed, "use.proposing:do_propose", resumable=True
)
TAKE_ARCHIVE = JobKind(
    "take_archive",
    Lane.MEDIA,
    SentArchive,
    outcomes.PicturesTaken,
    "pictures.intake:do_archive",
    resumable=True,
)
TAKE_FOLDER = JobKind(
    "take_folder",
    Lane.MEDIA,
    FolderToTake,
    outcomes.PicturesTaken,
    "pictures.intake:do_folder",
    resumable=True,
)
LOOK_AT_PICTURES = JobKind(
    "look_at_pictures", Lane.MEDIA, ForProject, outcomes.PicturesSeen, "pictures.thumbnails:do_looking"
)

SPLIT_PICTURES = JobKind(
    "split_pictures", Lane.CHANGES, SplitOrder, outcomes.PicturesSplit, "pictures.splits:do_split", short=True
)
SET_PART = JobKind("set_part", Lane.CHANGES, PicturesToPart, outcomes.ChangeMade, "pictures.filing:do_part")
SET_BINNED = JobKind("set_binned", Lane.CHANGES, PicturesToBin, outcomes.ChangeMade, "pictures.filing:do_bin")
SET_TAG = JobKind("set_tag", Lane.CHANGES, PicturesToTag, outcomes.ChangeMade, "pictures.filing:do_tag")
MARK_DONE = JobKind(
    "mark_done", Lane.CHANGES, PicturesToFinish, outcomes.ChangeMade, "labels.relabelling:do_done"
)
CHANGE_BOXES = JobKind(
    "change_boxes", Lane.CHANGES, BoxesToChange, outcomes.ChangeMade, "labels.relabelling:do_boxes"
)
MERGE_CLASS = JobKind(
    "merge_class", Lane.CHANGES, ClassToMerge, outcomes.ChangeMade, "labels.class_merge:do_merge"
)
CHANGE_ATTRIBUTE = JobKind(
    "change_attribute",
    Lane.CHANGES,
    AttributeToChange,
    outcomes.ChangeMade,
    "labels.attribute_changes:do_attribute",
)
UNDO_CHANGE = JobKind("undo_change", Lane.CHANGES, ChangeToUndo, outcomes.Undone, "labels.undo:do_undo")
READ_LABELS = JobKind(
    "read_labels", Lane.LABELS, SentLabels, outcomes.LabelsRead, "exchange.uploaded:read_uploaded"
)
TAKE_LABELS = JobKind(
    "take_labels", Lane.CHANGES, ChosenLabels, outcomes.LabelsTaken, "exchange.uploaded:take_uploaded"
)
EXPORT_LABELS = JobKind(
    "export_labels",
    Lane.LABELS,
    LabelsToWrite,
    outcomes.LabelsWritten,
    "exchange.written:export_labels",
    resumable=True,
)
FREEZE = JobKind("freeze", Lane.LABELS, FreezeOrder, outcomes.SnapshotFrozen, "snapshots.snapshots:do_freeze")
START_RUN = JobKind("start_run", Lane.LABELS, RunOrder, outcomes.RunStarted, "train.runs:do_start")
START_STUDY = JobKind("start_study", Lane.LABELS, StudyOrder, outcomes.StudyStarted, "train.studies:do_start")
ARCHIVE_SNAPSHOT = JobKind(
    "archive_snapshot",
    Lane.LABELS,
    SnapshotArchive,
    outcomes.FileMade,
    "snapshots.archive:do_archive",
    resumable=True,
)
COMPARE_SNAPSHOTS = JobKind(
    "compare_snapshots", Lane.LABELS, SnapshotPair, outcomes.SnapshotsCompared, "snapshots.comparison:do_compare",
    short=True,
)  # fmt: skip
LOOK_FOR_FINDINGS = JobKind(
    "look_for_findings", Lane.LABELS, ForProject, outcomes.FindingsMade, "audit.kept:do_findings", short=True
)
LOOK_AT_CROPS = JobKind(
    "look_at_crops", Lane.LABELS, ForProject, outcomes.BoxesSeen, "audit.crops:do_looking"
)

CLUSTER_ANCHORS = JobKind(
    "cluster_anchors",
    Lane.LOOKS,
    LookAhead,
    outcomes.AnchorsClustered,
    "train.ahead.anchors:cluster_for_page",
    short=True,
)
DRAW_AUGMENTED = JobKind(
    "draw_augmented",
    Lane.LOOKS,
    LookAhead,
    outcomes.AugmentedSheet,
    "train.ahead.looks_ahead:draw_augmented",
    short=True,
)
SUM_UP_SIZES = JobKind(
    "sum_up_sizes",
    Lane.LOOKS,
    LookAhead,
    outcomes.SizesSummed,
    "train.ahead.looks_ahead:sum_up_sizes",
    short=True,
)
PROBE_RUN = JobKind(
    "probe_run", Lane.LOOKS, LookAhead, outcomes.RunProbed, "train.ahead.looks_ahead:probe_run"
)
TRY_MODEL = JobKind(
    "try_model", Lane.LOOKS, RunAndPicture, outcomes.ModelTried, "train.trial:try_model", short=True
)
TAKE_APART = JobKind(
    "take_apart", Lane.LOOKS, PictureApart, outcomes.RawKept, "anatomy.take_apart:take_apart"
)
GO_LIVE = JobKind(
    "go_live", Lane.LIVE, ForLive, outcomes.LiveEnded, "live.running:do_live", resumable=True, short=True
)
WRITE_ONNX = JobKind(
    "write_onnx",
    Lane.LOOKS,
    ForRun,
    outcomes.FileMade,
    "models.onnx_file:do_onnx",
    resumable=True,
    short=True,
)
FIND_BOXES = JobKind(
    "find_boxes", Lane.LOOKS, RunsAndPicture, outcomes.BoxesFound, "anatomy.find_boxes:find_boxes"
)

KINDS: dict[str, JobKind[Any, Any]] = {
    each.key: each
    for each in (
        TRAIN, STUDY, EVALUATE, DETECT,
        SAMPLE_CLIP, COLLECT_FOUND, COLLECT_KEPT, PROPOSE, TAKE_ARCHIVE, TAKE_FOLDER, LOOK_AT_PICTURES,
        SPLIT_PICTURES, SET_PART, SET_BINNED, SET_TAG, MARK_DONE, CHANGE_BOXES, MERGE_CLASS,
        CHANGE_ATTRIBUTE, UNDO_CHANGE,
        READ_LABELS, TAKE_LABELS, EXPORT_LABELS, FREEZE, START_RUN, START_STUDY, ARCHIVE_SNAPSHOT, COMPARE_SNAPSHOTS,
        LOOK_FOR_FINDINGS, LOOK_AT_CROPS,
        GO_LIVE,
        CLUSTER_ANCHORS, DRAW_AUGMENTED, SUM_UP_SIZES, PROBE_RUN, TRY_MODEL, TAKE_APART, FIND_BOXES, WRITE_ONNX,
    )
}  # fmt: skip


def kinds_of(lane: Lane) -> set[str]:
    """Keys of the kinds that a lane's worker does."""
    return {each.key for each in KINDS.values() if each.lane == lane}
