"""The objects that are labelled on a clip: reading and saving them so that nothing is silently overwritten."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.tracks.trajectory import Trajectory, trajectory
from avocet.formats.record import fit_box
from avocet.store.clip_tables import ClipTrack, Standing, delete_track
from avocet.store.tables import Clip, LabelledAs
from avocet.work.labels.attributes import list_attributes, values_outside
from avocet.work.labels.boxes import HAND, sorted_attributes, usable_origin
from avocet.work.labels.changes import begin_change
from avocet.work.problems import Conflict
from avocet.work.project.current_classes import CurrentClasses

FRAMES_A_SECOND = 2.0
"""Of a clip on which somebody began to label objects before choosing, so many frames are learnt from."""

MOST_TRACKS = 5000
MOST_SETS = 20_000
"""Boxes that are set for one object, at most."""


@dataclass(frozen=True)
class SetBox:
    """A box that was set on a frame.

    Attributes
    ----------
    frame : int
    corners : tuple of float
    held : bool
        It stays as it is until the next one.
    origin : str
        ``hand``, ``carried``, ``imported``, or the model that proposed it, as ``run 3``.
    """

    frame: int
    corners: tuple[float, float, float, float]
    held: bool = False
    origin: str = HAND


@dataclass(frozen=True)
class TrackLabels:
    """All that is said of one object.

    Attributes
    ----------
    class_id : int
    spans : list of (int, int)
        First and last frame of each stretch in which it is in sight.
    sets : list of SetBox
    attributes : list of (int, dict)
        What holds from a frame on, all of it; before the first nothing does.
    unsure : list of int
        Frames that a person should look at.
    model : str
        Which model proposed it.
    standing : Standing
    uid : str
        Tells it from every other object, whatever its number and whatever is said of it; of an empty one the record
        makes its own.
    """

    class_id: int
    spans: list[tuple[int, int]]
    sets: list[SetBox]
    attributes: list[tuple[int, dict[str, Any]]] = field(default_factory=list)
    unsure: list[int] = field(default_factory=list)
    model: str = ""
    standing: Standing = Standing.KEPT
    uid: str = field(default="", compare=False)

    def trajectory(self) -> Trajectory:
        """Where it is on every frame."""
        return trajectory(
            self.spans,
            [each.corners for each in self.sets],
            [each.frame for each in self.sets],
            [each.held for each in self.sets],
        )

    def attributes_at(self, frame: int) -> dict[str, Any]:
        """What holds on a frame."""
        return next((values for start, values in reversed(self.attributes) if start <= frame), {})

    def origin_at(self, frame: int) -> str:
        """Where the box on a frame comes from: as the last one that was set until then."""
        return next((each.origin for each in reversed(self.sets) if each.frame <= frame), self.sets[0].origin)


@dataclass(frozen=True)
class TrackChange:
    """A change of one object: its number, the revision that it was made on (0 for a new one), and what is said of
    it now (None if it is gone)."""

    number: int
    revision: int
    labels: TrackLabels | None


def labels_of_track(row: ClipTrack) -> TrackLabels:
    """What a record says of an object."""
    return TrackLabels(
        row.class_id,
        [(first, last) for first, last in row.spans],
        [SetBox(**{**each, "corners": tuple(each["corners"])}) for each in row.sets],
        [(start, values) for start, values in row.attributes],
        list(row.unsure),
        row.model,
        row.standing,
        row.uid,
    )


def tracks_of_clip(session: Session, clip_id: int, kept_only: bool = False) -> list[ClipTrack]:
    """The clip's tracks, those that were refused as well unless only kept ones are asked for."""
    query = select(ClipTrack).where(ClipTrack.clip_id == clip_id).order_by(ClipTrack.number)
    if kept_only:
        query = query.where(ClipTrack.standing == Standing.KEPT)
    return list(session.scalars(query))


def track_counts(session: Session, project_id: int) -> dict[int, dict[Standing, int]]:
    """How many tracks each clip of a project has, by what was made of them."""
    found: dict[int, dict[Standing, int]] = {}
    counted = (
        select(ClipTrack.clip_id, ClipTrack.standing, func.count())
        .join(Clip, Clip.id == ClipTrack.clip_id)
        .where(Clip.project_id == project_id)
        .group_by(ClipTrack.clip_id, ClipTrack.standing)
    )
    for clip_id, standing, count in session.execute(counted):
        found.setdefault(clip_id, {})[standing] = count
    return found


def save_tracks(
    session: Session, clip: Clip, frames: int, changes: Sequence[TrackChange], worked: float = 0.0
) -> list[ClipTrack]:
    """Save changes of some objects; all of them, or none.

    Parameters
    ----------
    session : Session
    clip : Clip
    frames : int
        How many the clip has.
    changes : sequence of TrackChange
    worked : float
        Seconds that somebody worked on them since they were saved last; each gets the same share.

    Returns
    -------
    list of ClipTrack
        Those that are there of the changed ones, as they are now.

    Raises
    ------
    Conflict
        If one was changed elsewhere meanwhile; it holds all tracks as they are now.
    InputError
        If a box, a span, a class or a value cannot be kept.
    """
    there = {row.number: row for row in tracks_of_clip(session, clip.id)}
    for change in changes:
        row = there.get(change.number)
        if (row.revision if row else 0) != change.revision and not (row is None and change.labels is None):
            raise Conflict(
                f"object {change.number} of {clip.name} was changed elsewhere meanwhile",
                {"tracks": [track_record(each) for each in there.values()]},
            )
    classes = CurrentClasses(session, clip.project_id)
    saved = []
    for change in changes:
        row = there.get(change.number)
        if change.labels is None:
            if row is not None:
                delete_track(session, row)
                del there[change.number]
            continue
        called = f"object {change.number} of {clip.name}"
        labels = replace(change.labels, class_id=classes.became(change.labels.class_id))
        classes.check([(called, labels.class_id)], [row.class_id] if row else [])
        checked = _checked(session, clip, frames, labels, called)
        if row is None:
            if len(there) >= MOST_TRACKS:
                raise InputError(f"{clip.name} would have more than {MOST_TRACKS} objects")
            row = ClipTrack(clip_id=clip.id, number=change.number, revision=clip.gone_revision, worked=0.0)
            session.add(row)
            there[change.number] = row
        write_track(row, checked)
        row.revision += 1
        saved.append(row)
    for row in saved:
        row.worked += worked / len(saved)
    if clip.labelled_as is None and any(row.standing == Standing.KEPT for row in saved):
        clip.labelled_as, clip.per_second = LabelledAs.OBJECTS, FRAMES_A_SECOND
    session.flush()
    return saved


def tracks_as_change(
    session: Session, clip: Clip, frames: int, labels: Sequence[TrackLabels], title: str
) -> int | None:
    """Add objects under numbers of their own, as a change that can be undone.

    Returns
    -------
    int or None
        The change; None where there is nothing to add.
    """
    if not labels:
        return None
    number = max((row.number for row in tracks_of_clip(session, clip.id)), default=0)
    added = [TrackChange(number + place, 0, each) for place, each in enumerate(labels, start=1)]
    rows = save_tracks(session, clip, frames, added)
    change = begin_change(session, clip.project_id, title)
    change.tracks = [(row.id, None, row.class_id, row.revision) for row in rows]
    return change.id


def write_track(row: ClipTrack, labels: TrackLabels) -> None:
    """Put what is said of an object into its record."""
    row.class_id = labels.class_id
    row.spans = [list(each) for each in labels.spans]
    row.sets = [{**asdict(each), "corners": list(each.corners)} for each in labels.sets]
    row.attributes = [[start, values] for start, values in labels.attributes]
    row.unsure = list(labels.unsure)
    row.model, row.standing = labels.model, labels.standing
    if labels.uid:
        row.uid = labels.uid


def track_record(row: ClipTrack) -> dict[str, Any]:
    """A track as the page gets it."""
    return {
        "number": row.number,
        "uid": row.uid,
        "revision": row.revision,
        "class_id": row.class_id,
        "spans": row.spans,
        "sets": row.sets,
        "attributes": [{"frame": start, "values": values} for start, values in row.attributes],
        "unsure": row.unsure,
        "model": row.model,
        "standing": row.standing.value,
    }


def _checked(session: Session, clip: Clip, frames: int, labels: TrackLabels, called: str) -> TrackLabels:
    """What is said of an object as it may be kept; `InputError` names the object for what cannot be."""
    if len(labels.sets) > MOST_SETS:
        raise InputError(f"{called} would have {len(labels.sets)} set boxes; at most {MOST_SETS} are kept")
    sets = []
    for each in labels.sets:
        if not 0 <= each.frame < frames:
            raise InputError(f"{called} has a box on frame {each.frame}; the clip has 0 to {frames - 1}")
        corners, reason = fit_box(each.corners, clip.width, clip.height)
        if corners is None:
            raise InputError(f"the box of {called} on frame {each.frame} {reason}")
        sets.append(SetBox(each.frame, corners, each.held, usable_origin(each.origin)))
    for first, last in labels.spans:
        if not 0 <= first <= last < frames:
            raise InputError(f"{called} is in sight from {first} to {last}; the clip has 0 to {frames - 1}")
    if not labels.spans:
        raise InputError(f"{called} is in sight on no frame")
    attributes = []
    declared = list_attributes(session, clip.project_id)
    for start, values in sorted(labels.attributes, key=lambda each: each[0]):
        kept, refused = sorted_attributes(values)
        outside = values_outside(declared, kept)
        if refused or outside:
            raise InputError(f"{called} cannot keep {refused[0] if refused else outside[0][1]}")
        attributes.append((max(0, start), kept))
    try:
        found = TrackLabels(
            labels.class_id, labels.spans, sets, attributes,
            sorted({frame for frame in labels.unsure if 0 <= frame < frames}), labels.model, labels.standing,
            labels.uid,
        )  # fmt: skip
        found.trajectory()
    except ValueError as error:
        raise InputError(f"{called}: {error}") from None
    return found
