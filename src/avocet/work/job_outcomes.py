"""What each kind of job came to: kept with the job as JSON, and shown to the page under its kind."""

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field


class Outcome(BaseModel):
    """What a job came to. Fields that a later version adds have a default, so that old jobs are still read."""

    model_config = ConfigDict(from_attributes=True)


class Trained(Outcome):
    best_epoch: int | None = None
    best_map: float | None = None
    ended_early: bool = False


class Studied(Outcome):
    trainings: int


class Evaluated(Outcome):
    map50: float | None
    map: float | None


class Detected(Outcome):
    pictures: int
    boxes: int = 0


class FramesTaken(Outcome):
    """``boxes`` are those of the clip's tracks on the frames that came."""

    added: int
    already_there: int
    boxes: int = 0


class FramesPlanned(Outcome):
    """The frames that would be taken."""

    frames: list[int]


class CarriedBox(Outcome):
    """One object as it was followed: boxes to set, where it is in sight, frames that a person should look at.

    ``ended`` says why it goes no further: it is there, lost, has left the picture, the clip ends, or is damaged.
    """

    number: int
    ended: Literal["there", "lost", "left", "clip", "damaged"]
    frames: list[int]
    boxes: list[tuple[float, float, float, float]]
    spans: list[tuple[int, int]]
    unsure: list[int]
    sureness: float
    followed: int


class Carried(Outcome):
    clip_id: int
    frame: int
    stopped: bool
    objects: list[CarriedBox]


class TracksProposed(Outcome):
    """Objects that a model proposes for a clip; ``known`` were there already, kept or refused."""

    tracks: int
    known: int
    frames: int


class TracksTaken(Outcome):
    """Objects of a file of labels that the clip has now; ``change_id`` takes them away again."""

    tracks: int
    boxes: int
    left_out: list[str]
    notes: list[str] = Field(default_factory=list, description="What was read otherwise than it stands there")
    change_id: int | None = None
    asks: str = Field("", description="A question that has to be answered first; nothing was taken")


class TracksGathered(Outcome):
    """Boxes of a clip's pictures that are objects now; ``known`` ones were objects already."""

    tracks: int
    known: int
    boxes: int
    pictures: int
    change_id: int | None = None


class MachineSeen(Outcome):
    """A machine of the cluster: its address, what it gives, and what runs on it."""

    name: str
    alive: bool
    cores: int
    accelerators: int
    memory: int
    working: list[str]


class MachinesSeen(Outcome):
    machines: list[MachineSeen]


class FileTaken(Outcome):
    """What became of one file among many."""

    name: str
    outcome: Literal["added", "already there", "clip", "archive", "refused"]
    message: str = ""
    picture_id: int | None = None
    clip_id: int | None = None
    job_id: int | None = None


class PicturesTaken(Outcome):
    """``labels`` counts the annotation files that lie in the archive; ``files`` is cut where it is long."""

    added: int
    already_there: int
    clips: int
    refused: int
    labels: int
    files: list[FileTaken]


class FoundCollected(Outcome):
    """Pictures and frames of a detection run that are in the project now."""

    added: int
    already_there: int
    refused: int
    picture_ids: list[int]


class Proposed(Outcome):
    """Boxes that a model proposes, on so many of the pictures that it looked at."""

    boxes: int
    pictures: int
    looked_at: int
    refused: int


class LiveEnded(Outcome):
    """Live work that came to an end by itself: its source is gone for good."""

    pictures: int


class LabelledByPart(Outcome):
    """How many labelled pictures each part holds."""

    training: int
    validation: int
    test: int
    unassigned: int


class PicturesSplit(Outcome):
    change_id: int | None
    labelled: LabelledByPart


class ChangeMade(Outcome):
    """A change to many pictures at once: pictures or boxes that it met. Without a number it met none."""

    change_id: int | None
    title: str
    changed: int


class Undone(Outcome):
    """What undoing a change came to; ``kept`` pictures were changed again since and stay as they are."""

    title: str
    pictures: int
    kept: int


class PicturesSeen(Outcome):
    """How many thumbnails were made, and of how many pictures none could be; the first of these one by one."""

    pictures: int
    unreadable: int = 0
    messages: list[str] = []


class BoxesSeen(Outcome):
    looked_at: int


class ReadClass(Outcome):
    """A class of a file: its name there, its boxes on pictures found here, its class here if any."""

    name: str
    boxes: int
    class_id: int | None


class ColumnsRead(Outcome):
    picture: str
    label: str
    kind: Literal["corners", "corner and size", "bracketed"]
    values: list[str]
    fractions: bool | None = False


class TableRead(Outcome):
    header: list[str]
    rows: list[list[str]]
    guess: ColumnsRead | None


class LabelsRead(Outcome):
    """What taking annotation files over would do. Lists are cut where they are long; all is counted."""

    format: str
    pictures: int
    boxes: int
    labelled: list[str]
    labelled_count: int
    missing: list[str]
    missing_count: int
    problems: list[str]
    problems_count: int
    notes: list[str] = Field(default=[], description="What is taken otherwise than the file has it")
    asks: str = Field("", description="A question that has to be answered first")
    classes: list[ReadClass]
    table: TableRead | None = None
    columns: ColumnsRead | None = None


class LabelsTaken(Outcome):
    pictures: int
    boxes: int
    change_id: int


class FileMade(Outcome):
    """A file that waits to be fetched."""

    file: str


class LabelsWritten(FileMade):
    pictures: int = 0
    boxes: int = 0
    lost: list[str] = Field(default_factory=list)


class SnapshotFrozen(Outcome):
    snapshot_id: int


class RunStarted(Outcome):
    run_id: int


class StudyStarted(Outcome):
    study_id: int


class FindingsMade(Outcome):
    findings: int


class ClassDiffers(Outcome):
    name: str
    added: int
    gone: int
    moved: int
    relabelled: int


class Relabelled(Outcome):
    before: str
    after: str
    boxes: int


class NamesFound(Outcome):
    """Names, cut where they are very many, and how many there are."""

    count: int
    names: list[str]


class SnapshotsCompared(Outcome):
    """What differs between an earlier and a later snapshot."""

    pictures_added: NamesFound
    pictures_gone: NamesFound
    pictures_changed: NamesFound
    other_part: NamesFound
    classes: list[ClassDiffers]
    relabelled: list[Relabelled]


class AnchorFit(Outcome):
    mean_iou: float
    poor: float
    held: list[list[int]]


class AnchorsClustered(Outcome):
    side: int
    anchors: list[list[tuple[float, float]]]
    strides: list[int]
    by_level: list[int]
    fit: AnchorFit
    curve: list[float]
    boxes: int
    points: list[tuple[float, float, int]]
    class_names: list[str]


class AugmentedPicture(Outcome):
    name: str
    boxes: list[tuple[float, float, float, float]]
    classes: list[int]
    ignored: list[bool]


class AugmentedSheet(Outcome):
    width: int
    height: int
    pictures: list[AugmentedPicture]
    class_names: list[str]
    least_visible: float
    least_side: float


class LayerCost(Outcome):
    name: str
    kind: str
    output: tuple[int, int, int]
    parameters: int
    multiply_adds: int


class SizeCost(Outcome):
    layers: list[LayerCost]
    parameters: int
    multiply_adds: int
    milliseconds: float
    activations: int


class SizesSummed(Outcome):
    side: int
    sizes: dict[str, SizeCost]


class RunProbed(Outcome):
    seconds_per_step: float
    seconds_per_validation: float
    steps_per_epoch: int
    peak_memory: int
    seconds_per_epoch: float
    seconds: float
    epochs: int
    free_memory: int
    fits: bool


class ModelTried(Outcome):
    epoch: int | None
    picture_id: int
    boxes: list[tuple[float, float, float, float]]
    scores: list[float]
    classes: list[int]
    class_names: list[str]


class EightBitsTried(Outcome):
    """A run's model in 32 and in 8 bits, in this order; and what became of it, as a sentence."""

    used: bool
    said: str
    pictures: int = 0
    map: tuple[float | None, float | None] = (None, None)
    map50: tuple[float | None, float | None] = (None, None)
    map_change: tuple[float | None, float | None] = (None, None)
    """The range in which the change lies, 95 of 100 times; unknown where few pictures have a truth."""

    map50_change: tuple[float | None, float | None] = (None, None)
    more_than_chance: tuple[bool, bool] = (False, False)
    milliseconds: tuple[float, float] = (0.0, 0.0)
    times: float = 0.0
    """How many times as many pictures 8 bits do in the same time: the median of pairs."""

    size: tuple[int, int] = (0, 0)
    """Of the graph, in bytes."""


class RawKept(Outcome):
    candidates: int


class FoundByModel(Outcome):
    run_id: int
    name: str
    boxes: list[tuple[float, float, float, float]]
    scores: list[float]
    classes: list[str]


class BoxesFound(Outcome):
    picture_id: int
    width: int
    height: int
    models: list[FoundByModel]


def plain(outcome: Outcome) -> dict[str, Any]:
    """As it is kept with the job."""
    return outcome.model_dump(mode="json")
