"""What each kind of job is given: kept with it as JSON, checked when the worker takes it up."""

from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from avocet.store.tables import Part, PictureState
from avocet.work import job_outcomes as outcomes


class Given(BaseModel):
    """What a job is given; what it does not know is refused."""

    model_config = ConfigDict(extra="forbid")


class ForProject(Given):
    project_id: int


class ForRun(Given):
    run_id: int
    on_cluster: bool = False


class ForStudy(Given):
    study_id: int
    on_cluster: bool = False


class ForEvaluation(Given):
    """``class_map`` is that of measuring once more; ``former_job_id`` made the figures that are there already."""

    evaluation_id: int
    class_map: dict[str, str] | None = None
    former_job_id: int | None = None
    on_cluster: bool = False


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
    on_cluster: bool = False


class FoundToCollect(Given):
    """``places`` are those of pictures and frames in the run's record; the others are the limits of `Found.kept`."""

    detection_id: int
    places: list[int] = Field(min_length=1, max_length=2000)
    minimum_score: float | None = None
    overlap_limit: float | None = None
    only: list[str] = Field(default=[], max_length=1000)


class ToPropose(Given):
    """For the pictures of the project that are unlabelled when the worker comes to it."""

    project_id: int
    run_id: int | None = None
    ensemble_id: int | None = None
    minimum_score: float | None = None
    class_map: dict[str, str] = Field(default_factory=dict)


class ForLive(Given):
    live_id: int


class KeptToCollect(Given):
    address_id: int
    files: list[str] = Field(min_length=1, max_length=500)


class ClipFrames(Given):
    """Which frames of a clip become pictures: so many a second, or those that differ by so much from the last one.

    ``first`` and ``last`` are numbers of frames. Boxes of the clip's tracks come along; ``finished`` says that
    these are all objects there.
    """

    clip_id: int
    per_second: float | None = None
    differing: float | None = None
    first: int = 0
    last: int | None = None
    finished: bool = False


class BoxToCarry(BaseModel):
    """An object of a clip: its box, and where it is known to be on the frame that it is carried to."""

    number: int
    box: tuple[float, float, float, float]
    target: tuple[float, float, float, float] | None = None


class ToCarry(Given):
    """From one frame to another; without one until lost, forwards or back."""

    clip_id: int
    frame: int
    to: int | None = None
    back: bool = False
    least_iou: float = 0.9
    boxes: list[BoxToCarry] = Field(max_length=200)


class TracksToPropose(Given):
    """``class_map`` says what classes of the model that the project does not have are called here."""

    clip_id: int
    run_id: int | None = None
    ensemble_id: int | None = None
    minimum_score: float | None = None
    class_map: dict[str, str] = Field(default_factory=dict)


class ClipToGather(Given):
    clip_id: int


class TracksToWrite(Given):
    clip_id: int
    format: str
    every: int = 1


class TracksToTake(Given):
    clip_id: int
    token: str
    format: str | None = None
    corners: bool | None = None


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
    corners: bool | None = None


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
    clips: list[int] = Field(default_factory=list)
    """Of these only the frames count that they are thinned out to; those that are labelled as objects give them."""


class RunOrder(ForProject):
    """A run to be started: its labels are frozen first. ``start`` as in `avocet.work.train.runs`; ``on_cluster``: by
    all machines together, ``apart``: by one of them."""

    settings: dict[str, Any]
    name: str = ""
    snapshot_id: int | None = None
    start: int | str | None = None
    watched: list[int] = Field(default_factory=list)
    on_cluster: bool = False
    apart: bool = False


class StudyOrder(ForProject):
    settings: dict[str, Any]
    steps: int
    seeds: int
    snapshot_id: int | None = None
    on_cluster: bool = False


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
