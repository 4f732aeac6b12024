"""The tables."""

import datetime as dt
import enum
from typing import Any

from sqlalchemy import JSON, BigInteger, Enum, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


def now() -> dt.datetime:
    """The present moment in UTC, without a zone as SQLite keeps it."""
    return dt.datetime.now(dt.UTC).replace(tzinfo=None)


class Base(DeclarativeBase):
    """All tables."""

    type_annotation_map = {dict[str, Any]: JSON, list[Any]: JSON}  # noqa: RUF012 (read by SQLAlchemy)


class Part(enum.StrEnum):
    """The part of a split that a picture belongs to."""

    TRAINING = "training"
    VALIDATION = "validation"
    TEST = "test"


class PictureState(enum.StrEnum):
    """How far the labelling of a picture is."""

    UNLABELLED = "unlabelled"
    IN_PROGRESS = "in_progress"
    DONE = "done"
    EMPTY = "empty"


class AttributeKind(enum.StrEnum):
    """What an attribute of a box can hold."""

    FLAG = "flag"
    CHOICE = "choice"
    NUMBER = "number"


class JobState(enum.StrEnum):
    """How far a job is."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    STOPPED = "stopped"
    FAILED = "failed"
    INTERRUPTED = "interrupted"

    @property
    def ended(self) -> bool:
        return self not in (JobState.WAITING, JobState.RUNNING)


def text_enum(kind: type[enum.StrEnum]) -> Enum:
    """A column that keeps the values of an enumeration as text."""
    return Enum(
        kind, native_enum=False, length=20, values_callable=lambda members: [m.value for m in members]
    )


class Project(Base):
    __tablename__ = "project"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    created_at: Mapped[dt.datetime] = mapped_column(default=now)
    stamp: Mapped[int] = mapped_column(default=0, server_default="0")
    """Raised by triggers whenever labels, states, parts or the bin change; see `Picture.stamp`."""
    white: Mapped[float | None]
    """What a person chose to be white in all pictures of more than 8 bits."""

    classes: Mapped[list["ObjectClass"]] = relationship(
        back_populates="project", order_by="ObjectClass.position", cascade="all, delete-orphan"
    )


class ObjectClass(Base):
    """A class of objects. Its position, counted from 1, is its number key.

    A retired class keeps its boxes but is not offered any more and not trained. What is drawn of one that was
    merged, by a page that does not know it yet, gets the class that it was merged into.
    """

    __tablename__ = "object_class"
    __table_args__ = (UniqueConstraint("project_id", "name"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    name: Mapped[str]
    colour: Mapped[str]
    position: Mapped[int]
    retired_at: Mapped[dt.datetime | None]
    merged_into: Mapped[int | None] = mapped_column(ForeignKey("object_class.id", ondelete="SET NULL"))
    """Of a retired class, where it was retired by a merge."""

    project: Mapped[Project] = relationship(back_populates="classes")


class Attribute(Base):
    """Something that can be said of a box, of one class or of all. Boxes keep it by its name."""

    __tablename__ = "attribute"
    __table_args__ = (UniqueConstraint("project_id", "name"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    class_id: Mapped[int | None] = mapped_column(ForeignKey("object_class.id", ondelete="SET NULL"))
    name: Mapped[str]
    kind: Mapped[AttributeKind] = mapped_column(text_enum(AttributeKind))
    choices: Mapped[list[Any]] = mapped_column(default=list)
    position: Mapped[int]


class LabelledAs(enum.StrEnum):
    """How a clip is labelled."""

    OBJECTS = "objects"
    PICTURES = "pictures"


class Clip(Base):
    """A clip, how a person wants it labelled, and which of its frames are to be learnt from.

    ``first`` and ``last`` say which stretch counts; ``per_second`` or ``differing`` how it is thinned out, with
    every frame where neither is given.
    """

    __tablename__ = "clip"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    content_hash: Mapped[str]
    suffix: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    rate: Mapped[float]
    seconds: Mapped[float]
    added_at: Mapped[dt.datetime] = mapped_column(default=now)
    labelled_as: Mapped[LabelledAs | None] = mapped_column(text_enum(LabelledAs))
    first: Mapped[int] = mapped_column(default=0, server_default="0")
    last: Mapped[int | None]
    per_second: Mapped[float | None]
    differing: Mapped[float | None]
    binned_at: Mapped[dt.datetime | None]
    gone_revision: Mapped[int] = mapped_column(default=0, server_default="0")
    """The highest that a deleted object had: one that gets its number again begins above it, so that nobody who still has
    the former one open takes it for the same."""


class Picture(Base):
    """A picture. Its file is kept under its content hash, or read where it lies (``path``)."""

    __tablename__ = "picture"
    __table_args__ = (
        UniqueConstraint("project_id", "content_hash"),
        Index("ix_picture_page", "project_id", "binned_at", "id"),
        Index("ix_picture_name", "project_id", "binned_at", "name", "id"),
        Index("ix_picture_boxes", "project_id", "binned_at", "box_count", "id"),
        Index("ix_picture_state", "project_id", "binned_at", "state", "id"),
        Index("ix_picture_part", "project_id", "binned_at", "part", "id"),
        Index("ix_picture_stamp", "project_id", "stamp"),
        Index(
            "ix_picture_white", "project_id", "least_white", "white", sqlite_where=text("white IS NOT NULL")
        ),
    )

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    name: Mapped[str]
    content_hash: Mapped[str]
    suffix: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    clip_id: Mapped[int | None] = mapped_column(ForeignKey("clip.id", ondelete="SET NULL"))
    frame_number: Mapped[int | None]
    part: Mapped[Part | None] = mapped_column(text_enum(Part))
    state: Mapped[PictureState] = mapped_column(text_enum(PictureState), default=PictureState.UNLABELLED)
    revision: Mapped[int] = mapped_column(default=0)
    added_at: Mapped[dt.datetime] = mapped_column(default=now)
    binned_at: Mapped[dt.datetime | None]
    source: Mapped[str] = mapped_column(default="", server_default="")
    path: Mapped[str | None]
    file_size: Mapped[int | None]
    file_time: Mapped[int | None] = mapped_column(BigInteger)
    look: Mapped[int | None] = mapped_column(BigInteger)
    box_count: Mapped[int] = mapped_column(default=0, server_default="0")
    labelled_at: Mapped[dt.datetime | None]
    worked: Mapped[float] = mapped_column(default=0.0, server_default="0")
    """Seconds that people worked on its labels in the page."""
    stamp: Mapped[int] = mapped_column(default=0, server_default="0")
    """The project's stamp at the last change; set by triggers."""
    white: Mapped[float | None]
    """Of a picture of more than 8 bits, the value that is read as white."""
    declared_white: Mapped[float | None]
    """What its file says is white."""
    least_white: Mapped[float | None]
    """Where its file says nothing, the least usual white that nearly all of its values fit into."""

    boxes: Mapped[list["Box"]] = relationship(
        back_populates="picture", order_by="Box.position", cascade="all, delete-orphan"
    )
    clip: Mapped[Clip | None] = relationship()
    tags: Mapped[list["PictureTag"]] = relationship(cascade="all, delete-orphan", order_by="PictureTag.tag")


class Proposal(Base):
    """A box that a model suggests for a picture and a person has yet to accept."""

    __tablename__ = "proposal"

    id: Mapped[int] = mapped_column(primary_key=True)
    picture_id: Mapped[int] = mapped_column(ForeignKey("picture.id", ondelete="CASCADE"), index=True)
    detection_id: Mapped[int | None] = mapped_column(ForeignKey("detection.id", ondelete="SET NULL"))
    class_name: Mapped[str]
    x1: Mapped[float]
    y1: Mapped[float]
    x2: Mapped[float]
    y2: Mapped[float]
    score: Mapped[float]
    model: Mapped[str] = mapped_column(default="", server_default="")
    """Which run or ensemble proposes it, as ``run 3``."""
    refused: Mapped[bool] = mapped_column(default=False, server_default="0")
    """By a person: it is kept so that it does not come back."""


class PictureTag(Base):
    """A word that a person put on a picture."""

    __tablename__ = "picture_tag"
    __table_args__ = (Index("ix_picture_tag_tag", "tag", "picture_id"),)

    picture_id: Mapped[int] = mapped_column(ForeignKey("picture.id", ondelete="CASCADE"), primary_key=True)
    tag: Mapped[str] = mapped_column(primary_key=True)


class Box(Base):
    """A labelled box, ``[x1, y1, x2, y2]`` in original pixels."""

    __tablename__ = "box"
    __table_args__ = (Index("ix_box_attributes", "picture_id", sqlite_where=text("attributes <> '{}'")),)

    id: Mapped[int] = mapped_column(primary_key=True)
    picture_id: Mapped[int] = mapped_column(ForeignKey("picture.id", ondelete="CASCADE"), index=True)
    class_id: Mapped[int] = mapped_column(ForeignKey("object_class.id"), index=True)
    position: Mapped[int]
    x1: Mapped[float]
    y1: Mapped[float]
    x2: Mapped[float]
    y2: Mapped[float]
    crowd: Mapped[bool] = mapped_column(default=False)
    attributes: Mapped[dict[str, Any]] = mapped_column(default=dict)
    track: Mapped[int | None]
    origin: Mapped[str] = mapped_column(default="", server_default="")
    """``hand``, ``carried``, ``imported``, or the model that proposed it, as ``run 3``; empty where nobody recorded it."""

    picture: Mapped[Picture] = relationship(back_populates="boxes")

    @property
    def corners(self) -> tuple[float, float, float, float]:
        return self.x1, self.y1, self.x2, self.y2


class Snapshot(Base):
    """An immutable copy of labels and splits; its file is named by its content hash.

    ``summary`` is what each part holds; snapshots of earlier versions have none.
    """

    __tablename__ = "snapshot"
    __table_args__ = (UniqueConstraint("project_id", "content_hash"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    content_hash: Mapped[str]
    pictures: Mapped[int]
    boxes: Mapped[int]
    created_at: Mapped[dt.datetime] = mapped_column(default=now)
    name: Mapped[str] = mapped_column(default="", server_default="")
    note: Mapped[str] = mapped_column(default="", server_default="")
    summary: Mapped[dict[str, Any] | None] = mapped_column(JSON, default=None)


class Change(Base):
    """A change made to many pictures or classes at once, with all that is needed to undo it.

    ``classes`` and ``classes_after`` are empty where it did nothing to the classes, ``attributes`` and
    ``attributes_after`` where it did nothing to those; changes of earlier versions do not say how they
    left the classes.
    """

    __tablename__ = "change"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    title: Mapped[str]
    made_at: Mapped[dt.datetime] = mapped_column(default=now)
    undone_at: Mapped[dt.datetime | None]
    classes: Mapped[list[Any]] = mapped_column(default=list)
    classes_after: Mapped[list[Any] | None] = mapped_column(JSON, default=None)
    attributes: Mapped[list[Any] | None] = mapped_column(JSON, default=None)
    attributes_after: Mapped[list[Any] | None] = mapped_column(JSON, default=None)
    tracks: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    """Objects of clips that got another class: number of the record, class before and after. Of those that came
    with the change there was no class before."""


class ChangedPicture(Base):
    """How one picture was before a change, and a digest of its labels or a mark of how the change left it."""

    __tablename__ = "changed_picture"

    change_id: Mapped[int] = mapped_column(ForeignKey("change.id", ondelete="CASCADE"), primary_key=True)
    picture_id: Mapped[int] = mapped_column(ForeignKey("picture.id", ondelete="CASCADE"), primary_key=True)
    after: Mapped[str]
    before: Mapped[dict[str, Any]]


class Job(Base):
    """A piece of long work in the worker process."""

    __tablename__ = "job"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    title: Mapped[str]
    arguments: Mapped[dict[str, Any]] = mapped_column(default=dict, deferred=True)
    state: Mapped[JobState] = mapped_column(text_enum(JobState), default=JobState.WAITING)
    by_command: Mapped[bool] = mapped_column(default=False)
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    message: Mapped[str] = mapped_column(default="")
    outcome: Mapped[dict[str, Any]] = mapped_column(default=dict)
    stop_requested: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[dt.datetime] = mapped_column(default=now)
    started_at: Mapped[dt.datetime | None]
    started_done: Mapped[int] = mapped_column(default=0)
    seconds_worked: Mapped[float] = mapped_column(default=0.0, server_default="0")
    """Since it was started last, by a clock that nobody sets back."""
    heartbeat_at: Mapped[dt.datetime | None]
    ended_at: Mapped[dt.datetime | None]


class Run(Base):
    """A training of one detector on one snapshot."""

    __tablename__ = "run"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    snapshot_id: Mapped[int] = mapped_column(ForeignKey("snapshot.id"))
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"))
    name: Mapped[str]
    settings: Mapped[dict[str, Any]]
    created_at: Mapped[dt.datetime] = mapped_column(default=now)
    note: Mapped[str] = mapped_column(default="", server_default="")
    binned_at: Mapped[dt.datetime | None]
    held_out: Mapped[str] = mapped_column(default="", server_default="")
    """Names the validation pictures and their truths: figures of runs compare where it is the same."""
    watched: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    """Numbers of the watch pictures; empty means they are drawn by seed."""
    facts: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """What was found out when it began: the environment, what was taken over from starting weights."""
    best_epoch: Mapped[int | None]
    best_map50: Mapped[float | None]
    best_map: Mapped[float | None]
    minimum_score: Mapped[float | None]
    """Of best F1 in the validation of the best epoch."""
    minimum_scores: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """By class, what a person chose for the model to be used with; empty where nobody chose."""

    snapshot: Mapped[Snapshot] = relationship()
    job: Mapped[Job] = relationship()
    epochs: Mapped[list["RunEpoch"]] = relationship(order_by="RunEpoch.epoch", cascade="all, delete-orphan")


class RunEpoch(Base):
    """What one epoch of a run came to."""

    __tablename__ = "run_epoch"

    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"), primary_key=True)
    epoch: Mapped[int] = mapped_column(primary_key=True)
    figures: Mapped[dict[str, Any]]


class Study(Base):
    """How precision grows with the number of training pictures."""

    __tablename__ = "study"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    snapshot_id: Mapped[int] = mapped_column(ForeignKey("snapshot.id"))
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"))
    settings: Mapped[dict[str, Any]]
    plan: Mapped[list[Any]]
    """Number of pictures and seed of every training."""
    results: Mapped[list[Any]] = mapped_column(default=list)
    """As the plan, with what was measured, as far as it is done."""
    created_at: Mapped[dt.datetime] = mapped_column(default=now)

    snapshot: Mapped[Snapshot] = relationship()
    job: Mapped[Job] = relationship()


class Ensemble(Base):
    """Several runs' models whose boxes are combined, used like one model."""

    __tablename__ = "ensemble"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    members: Mapped[list[Any]]
    """Number of the run and weight of each."""
    method: Mapped[str]
    overlap_limit: Mapped[float]
    created_at: Mapped[dt.datetime] = mapped_column(default=now)
    binned_at: Mapped[dt.datetime | None]


class Evaluation(Base):
    """A model, or detections from elsewhere, measured on pictures whose truth is known.

    The model is a run's, an ensemble's, or a bundle that was sent; the truth is a part of a
    snapshot, or was sent and lies beside the figures.
    """

    __tablename__ = "evaluation"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    run_id: Mapped[int | None] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    ensemble_id: Mapped[int | None] = mapped_column(ForeignKey("ensemble.id", ondelete="CASCADE"))
    snapshot_id: Mapped[int | None] = mapped_column(ForeignKey("snapshot.id"))
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"))
    name: Mapped[str] = mapped_column(default="", server_default="")
    part: Mapped[Part | None] = mapped_column(text_enum(Part))
    settings: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    report: Mapped[dict[str, Any]] = mapped_column(default=dict)
    looks: Mapped[int] = mapped_column(default=0, server_default="0")
    """How often a person opened it."""
    created_at: Mapped[dt.datetime] = mapped_column(default=now)
    binned_at: Mapped[dt.datetime | None]

    run: Mapped[Run | None] = relationship()
    ensemble: Mapped[Ensemble | None] = relationship()
    snapshot: Mapped[Snapshot | None] = relationship()
    job: Mapped[Job] = relationship()


class Detection(Base):
    """A model used on a folder of pictures or a clip."""

    __tablename__ = "detection"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    run_id: Mapped[int | None] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    ensemble_id: Mapped[int | None] = mapped_column(ForeignKey("ensemble.id", ondelete="CASCADE"))
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"))
    source: Mapped[str]
    minimum_score: Mapped[float]
    overlap_limit: Mapped[float]
    minimum_scores: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """By class, where they differ from the minimum score."""
    order: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """What counts and what comes out, whole; empty for runs of earlier versions."""
    counting: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """Lines and regions that a person has drawn to count objects by."""
    summary: Mapped[dict[str, Any]] = mapped_column(default=dict)
    created_at: Mapped[dt.datetime] = mapped_column(default=now)

    run: Mapped[Run | None] = relationship()
    ensemble: Mapped[Ensemble | None] = relationship()
    job: Mapped[Job] = relationship()
