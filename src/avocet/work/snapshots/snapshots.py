"""Snapshots: immutable, content-hashed copies of labels and splits."""

import hashlib
import json
from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.files import write_bytes
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Picture, Run, Snapshot
from avocet.work.job_givens import FreezeOrder
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import SnapshotFrozen
from avocet.work.labels.classes import list_classes
from avocet.work.labels.rows import PictureRow, picture_rows
from avocet.work.labels.states import LABELLED
from avocet.work.pictures.listing import Filter, conditions
from avocet.work.problems import NotFound, by_number
from avocet.work.snapshots.from_clips import frames_not_learnt_from
from avocet.work.snapshots.frozen import Frozen, FrozenBox, FrozenPicture, SnapshotSummary, summary_of
from avocet.work.snapshots.frozen_columns import frozen_columns, keep_columns


@dataclass(frozen=True)
class PreparedSnapshot:
    """A snapshot that is read, checked and hashed, and only needs to be recorded."""

    frozen: Frozen
    content: bytes
    digest: str
    summary: SnapshotSummary


def freeze(
    session: Session,
    folder: DataFolder,
    project_id: int,
    name: str = "",
    note: str = "",
    wanted: Filter | None = None,
    class_map: Mapping[int, int | None] | None = None,
    new_names: Mapping[int, str] | None = None,
) -> Snapshot:
    """Copy the labels and splits as they are now; the same labels give the same snapshot.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    project_id : int
    name, note : str
        For people; a snapshot that is there already keeps its own unless it has none.
    wanted : Filter, optional
        Which labelled pictures to take; by default all.
    class_map : mapping of int to int or None, optional
        For ids of classes: the class that their boxes get in the snapshot, or None to leave the
        boxes out. Retired classes are left out by themselves.
    new_names : mapping of int to str, optional
        Other names of classes in the snapshot.

    Raises
    ------
    InputError
        If no picture is labelled, or no class is left.
    """
    prepared = prepare_snapshot(session, project_id, wanted, class_map, new_names)
    keep_snapshot(folder, project_id, prepared)
    return record_snapshot(session, project_id, prepared, name, note)


def prepare_snapshot(
    session: Session,
    project_id: int,
    wanted: Filter | None = None,
    class_map: Mapping[int, int | None] | None = None,
    new_names: Mapping[int, str] | None = None,
    left_out: Container[int] = (),
) -> PreparedSnapshot:
    """Read and hash what `freeze` records, which for many boxes takes seconds. Raises as it does."""
    if not list_classes(session, project_id):
        raise InputError("the project has no class yet; add one in Collect")
    frozen = labels_now(session, project_id, wanted, class_map, new_names, left_out)
    if not frozen.classes:
        raise InputError("every class is left out; a snapshot needs at least one")
    if not frozen.pictures:
        raise InputError("no picture is done yet; draw the boxes of some in Collect and press Enter on each")
    return packed(frozen)


def packed(frozen: Frozen) -> PreparedSnapshot:
    """Labels as the bytes of a snapshot's file, and the hash that names it."""
    dumped = frozen.model_dump(mode="json")
    for picture in dumped["pictures"]:
        for extra in ("attributes", "tracks", "path", "white"):
            if not picture[extra]:
                del picture[extra]
    content = json.dumps(dumped, ensure_ascii=False, separators=(",", ":")).encode()
    return PreparedSnapshot(frozen, content, hashlib.sha256(content).hexdigest(), summary_of(frozen))


def keep_snapshot(folder: DataFolder, project_id: int, prepared: PreparedSnapshot) -> None:
    """Write the snapshot's files, which are named by its hash and so may be there before its record."""
    path = folder.snapshot(project_id, prepared.digest)
    if not path.is_file():
        keep_columns(folder, project_id, prepared.digest, frozen_columns(prepared.frozen))
        write_bytes(path, prepared.content)


def record_snapshot(
    session: Session, project_id: int, prepared: PreparedSnapshot, name: str = "", note: str = ""
) -> Snapshot:
    """Record a prepared snapshot, unless the same is there."""
    there = session.scalar(
        select(Snapshot).where(Snapshot.project_id == project_id, Snapshot.content_hash == prepared.digest)
    )
    if there is not None:
        there.name, there.note = there.name or name.strip(), there.note or note.strip()
        return there
    snapshot = Snapshot(
        project_id=project_id,
        content_hash=prepared.digest,
        pictures=len(prepared.frozen.pictures),
        boxes=sum(len(picture.boxes) for picture in prepared.frozen.pictures),
        name=name.strip(),
        note=note.strip(),
        summary=prepared.summary.model_dump(mode="json"),
    )
    session.add(snapshot)
    session.flush()
    return snapshot


def do_freeze(task: Task[FreezeOrder]) -> SnapshotFrozen:
    """Freeze in the background."""
    given = task.given
    left_out = frames_not_learnt_from(
        task.sessions, task.folder, given.project_id, given.clips, task.reporter
    )
    task.reporter.progress(0, 2, "Reading the labels")
    with reading(task.sessions)() as session:
        prepared = prepare_snapshot(
            session, given.project_id, Filter(**given.filter), given.class_map, given.new_names, left_out
        )
    task.reporter.progress(1, 2, "Writing the snapshot")
    keep_snapshot(task.folder, given.project_id, prepared)
    with task.sessions.begin() as session:
        made = record_snapshot(session, given.project_id, prepared, given.name, given.note)
        return SnapshotFrozen(snapshot_id=made.id)


def labels_now(
    session: Session,
    project_id: int,
    wanted: Filter | None = None,
    class_map: Mapping[int, int | None] | None = None,
    new_names: Mapping[int, str] | None = None,
    left_out: Container[int] = (),
) -> Frozen:
    """The labels as they are now, as a snapshot would hold them; nothing is written."""
    mapping = class_map or {}
    active = list_classes(session, project_id)
    target = {each.id: mapping.get(each.id, each.id) for each in active}
    classes = [each for each in active if each.id in target.values()]
    index_of = {each.id: index for index, each in enumerate(classes)}
    label_of = {
        class_id: index_of[goal] for class_id, goal in target.items() if goal is not None and goal in index_of
    }
    wanted_rows = [*conditions(project_id, wanted or Filter()), Picture.state.in_(LABELLED)]
    rows = picture_rows(session, wanted_rows, Picture.content_hash)
    names = [((new_names or {}).get(each.id) or each.name).strip() for each in classes]
    if len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise InputError(f"two classes of the snapshot would be called {twice!r}; merge them instead")
    return Frozen(
        classes=names, pictures=[_frozen(each, label_of) for each in rows if each.id not in left_out]
    )


def get_snapshot(session: Session, snapshot_id: int) -> Snapshot:
    """The snapshot, or `NotFound`."""
    return by_number(session, Snapshot, snapshot_id, "snapshot")


def list_snapshots(session: Session, project_id: int) -> list[Snapshot]:
    """The project's snapshots, newest first."""
    query = select(Snapshot).where(Snapshot.project_id == project_id).order_by(Snapshot.id.desc())
    return list(session.scalars(query))


def runs_of(session: Session, snapshots: Sequence[Snapshot]) -> dict[int, int]:
    """How many runs learnt from each snapshot, by its number."""
    ids = [each.id for each in snapshots]
    query = select(Run.snapshot_id, func.count()).where(Run.snapshot_id.in_(ids)).group_by(Run.snapshot_id)
    return {number: count for number, count in session.execute(query)}


def describe_snapshot(session: Session, snapshot_id: int, name: str, note: str) -> Snapshot:
    """Give a snapshot another name and note; what it holds never changes."""
    snapshot = get_snapshot(session, snapshot_id)
    snapshot.name, snapshot.note = name.strip()[:200], note.strip()[:5000]
    return snapshot


def read_snapshot(folder: DataFolder, snapshot: Snapshot) -> Frozen:
    """What a snapshot holds. Raises `NotFound` if its file is gone or was changed."""
    path = folder.snapshot(snapshot.project_id, snapshot.content_hash)
    if not path.is_file():
        raise NotFound(f"the file of snapshot {snapshot.content_hash[:12]} is missing ({path})")
    content = path.read_bytes()
    if hashlib.sha256(content).hexdigest() != snapshot.content_hash:
        raise NotFound(f"the file of snapshot {snapshot.content_hash[:12]} was changed ({path})")
    return Frozen.model_validate_json(content)


def read_summary(folder: DataFolder, snapshot: Snapshot) -> SnapshotSummary:
    """What each part of a snapshot holds, from the record, or from the file of an earlier version's."""
    if snapshot.summary is not None:
        return SnapshotSummary.model_validate(snapshot.summary)
    return summary_of(read_snapshot(folder, snapshot))


def _frozen(picture: PictureRow, label_of: Mapping[int, int]) -> FrozenPicture:
    boxes = [box for box in picture.boxes if box.class_id in label_of]
    # What comes from the database needs no second check, which would take most of the time.
    return FrozenPicture.model_construct(
        id=picture.id,
        name=picture.name,
        content_hash=picture.content_hash,
        suffix=picture.suffix,
        width=picture.width,
        height=picture.height,
        part=picture.part,
        boxes=[FrozenBox(label_of[box.class_id], *box.corners, box.crowd) for box in boxes],
        attributes={number: box.attributes for number, box in enumerate(boxes) if box.attributes},
        tracks={number: box.track for number, box in enumerate(boxes) if box.track is not None},
        path=picture.path,
        white=picture.white,
    )
