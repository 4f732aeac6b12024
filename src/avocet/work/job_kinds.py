"""The kinds of job: what each is given, what it comes to, which worker does it, and whether it goes on.

One table from which the queue, the worker, resuming and the page draw. To add a kind, add an entry
here and write the function that it names.
"""

import enum
from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import Any, Generic, TypeVar

from avocet.loading import loading
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.work import job_outcomes as outcomes
from avocet.work.job_givens import (
    AttributeToChange,
    BoxesToChange,
    ChangeToUndo,
    ChosenLabels,
    ClassToMerge,
    ClipFrames,
    ClipToGather,
    DetectionInputs,
    FolderToTake,
    ForEvaluation,
    ForLive,
    ForProject,
    ForRun,
    ForStudy,
    FoundToCollect,
    FreezeOrder,
    Given,
    KeptToCollect,
    LabelsToWrite,
    LookAhead,
    PictureApart,
    PicturesToBin,
    PicturesToFinish,
    PicturesToPart,
    PicturesToTag,
    RunAndPicture,
    RunOrder,
    RunsAndPicture,
    SentArchive,
    SentLabels,
    SnapshotArchive,
    SnapshotPair,
    SplitOrder,
    StudyOrder,
    ToCarry,
    ToPropose,
    TracksToPropose,
    TracksToTake,
    TracksToWrite,
)
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

    AWAY = "away"
    """What other machines of a cluster do and this one only follows, several at once."""

    LOOKS = "looks"
    """Looks at a run before it starts or while it trains, and into a model."""


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
        with loading():
            found: Callable[[Task[G]], O] = getattr(import_module(f"avocet.work.{module}"), name)
        return found


TRAIN = JobKind("train", Lane.COMPUTE, ForRun, outcomes.Trained, "train.training:do_training")
TRAIN_APART = JobKind("train_apart", Lane.AWAY, ForRun, outcomes.Trained, "train.training:do_training_apart")
STUDY = JobKind("study", Lane.COMPUTE, ForStudy, outcomes.Studied, "train.study_run:do_study", resumable=True)
EVALUATE = JobKind(
    "evaluate", Lane.COMPUTE, ForEvaluation, outcomes.Evaluated, "judge.evaluate:do_evaluation"
)
DETECT = JobKind(
    "detect", Lane.COMPUTE, DetectionInputs, outcomes.Detected, "use.run:do_detection", resumable=True
)

SAMPLE_CLIP = JobKind(
    "sample_clip", Lane.MEDIA, ClipFrames, outcomes.FramesTaken, "clips.sampling:do_sampling", resumable=True
)
PLAN_FRAMES = JobKind(
    "plan_frames", Lane.LOOKS, ClipFrames, outcomes.FramesPlanned, "clips.sampling:do_planning", short=True
)
CARRY = JobKind("carry", Lane.LOOKS, ToCarry, outcomes.Carried, "clips.carrying:do_carry", short=True)
PROPOSE_TRACKS = JobKind(
    "propose_tracks",
    Lane.MEDIA,
    TracksToPropose,
    outcomes.TracksProposed,
    "clips.proposing:do_propose_tracks",
    resumable=True,
)
GATHER_TRACKS = JobKind(
    "gather_tracks",
    Lane.MEDIA,
    ClipToGather,
    outcomes.TracksGathered,
    "clips.gathering:do_gather",
    resumable=True,
)
WRITE_TRACKS = JobKind(
    "write_tracks",
    Lane.LABELS,
    TracksToWrite,
    outcomes.LabelsWritten,
    "clips.written:do_write_tracks",
    resumable=True,
    short=True,
)
TAKE_TRACKS = JobKind(
    "take_tracks", Lane.LABELS, TracksToTake, outcomes.TracksTaken, "clips.taken:do_take_tracks", short=True
)
LOOK_AT_MACHINES = JobKind(
    "look_at_machines",
    Lane.LOOKS,
    ForProject,
    outcomes.MachinesSeen,
    "cluster.looking_over:do_look_at_machines",
    short=True,
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
TRY_EIGHT_BITS = JobKind(
    "try_eight_bits",
    Lane.LOOKS,
    ForRun,
    outcomes.EightBitsTried,
    "models.eight_bits:do_try_eight_bits",
    resumable=True,
)
FIND_BOXES = JobKind(
    "find_boxes", Lane.LOOKS, RunsAndPicture, outcomes.BoxesFound, "anatomy.find_boxes:find_boxes"
)

KINDS: dict[str, JobKind[Any, Any]] = {
    each.key: each
    for each in (
        TRAIN, TRAIN_APART, STUDY, EVALUATE, DETECT,
        SAMPLE_CLIP, PLAN_FRAMES, CARRY, PROPOSE_TRACKS, GATHER_TRACKS, WRITE_TRACKS, TAKE_TRACKS, LOOK_AT_MACHINES,
        COLLECT_FOUND, COLLECT_KEPT, PROPOSE, TAKE_ARCHIVE, TAKE_FOLDER, LOOK_AT_PICTURES,
        SPLIT_PICTURES, SET_PART, SET_BINNED, SET_TAG, MARK_DONE, CHANGE_BOXES, MERGE_CLASS,
        CHANGE_ATTRIBUTE, UNDO_CHANGE,
        READ_LABELS, TAKE_LABELS, EXPORT_LABELS, FREEZE, START_RUN, START_STUDY, ARCHIVE_SNAPSHOT, COMPARE_SNAPSHOTS,
        LOOK_FOR_FINDINGS, LOOK_AT_CROPS,
        GO_LIVE,
        CLUSTER_ANCHORS, DRAW_AUGMENTED, SUM_UP_SIZES, PROBE_RUN, TRY_MODEL, TAKE_APART, FIND_BOXES, WRITE_ONNX, TRY_EIGHT_BITS,
    )
}  # fmt: skip


def kinds_of(lane: Lane) -> set[str]:
    """Keys of the kinds that a lane's worker does."""
    return {each.key for each in KINDS.values() if each.lane == lane}
