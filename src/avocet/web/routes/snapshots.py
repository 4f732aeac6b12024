"""Snapshots: frozen, compared, taken away as archives."""

from flask import Response
from flask_openapi3 import Tag
from sqlalchemy.orm import Session

from avocet.store.tables import Snapshot
from avocet.web.context import context, moment, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas import snapshots as schemas
from avocet.web.schemas.common import JobStarted, ProjectPath
from avocet.work.job_givens import FreezeOrder, SnapshotArchive, SnapshotPair
from avocet.work.job_kinds import ARCHIVE_SNAPSHOT, COMPARE_SNAPSHOTS, FREEZE
from avocet.work.problems import NotFound
from avocet.work.snapshots import snapshots as work

snapshots = DescribedBlueprint("snapshots", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="snapshots")])


@snapshots.get("/projects/<int:project_id>/snapshots", responses={200: schemas.SnapshotList})
def list_snapshots(path: ProjectPath) -> Response:
    """The project's snapshots, newest first."""
    with context().reading() as session:
        found = work.list_snapshots(session, path.project_id)
        runs = work.runs_of(session, found)
        listed = [_out(each, runs.get(each.id, 0)) for each in found]
        return reply(schemas.SnapshotList(snapshots=listed))


@snapshots.post("/projects/<int:project_id>/snapshots", responses={202: JobStarted})
def freeze(path: ProjectPath, body: schemas.SnapshotIn) -> Response:
    """Freeze the labels as they are now, in the background; the same labels give the same snapshot."""
    given = FreezeOrder(
        project_id=path.project_id,
        name=body.name,
        note=body.note,
        filter=body.filter.model_dump(),
        class_map=body.class_map,
        new_names=body.new_names,
        clips=body.clips,
    )
    return start_job(path.project_id, FREEZE, "Freeze the labels", given)


@snapshots.get("/snapshots/<int:snapshot_id>", responses={200: schemas.SnapshotDetail})
def get_snapshot(path: schemas.SnapshotPath) -> Response:
    """A snapshot with what each part of it holds."""
    with context().reading() as session:
        return reply(_detail(session, work.get_snapshot(session, path.snapshot_id)))


@snapshots.patch("/snapshots/<int:snapshot_id>", responses={200: schemas.SnapshotOut})
def describe(path: schemas.SnapshotPath, body: schemas.SnapshotText) -> Response:
    """Give a snapshot another name and note."""
    with context().sessions.begin() as session:
        snapshot = work.describe_snapshot(session, path.snapshot_id, body.name, body.note)
        return reply(_out(snapshot, work.runs_of(session, [snapshot]).get(snapshot.id, 0)))


@snapshots.post("/snapshots/<int:snapshot_id>/compared/<int:other_id>", responses={202: JobStarted})
def compare(path: schemas.SnapshotPairPath) -> Response:
    """What differs from an earlier snapshot (`other_id`): the job's outcome says it."""
    with context().reading() as session:
        later, earlier = (work.get_snapshot(session, each) for each in (path.snapshot_id, path.other_id))
    if later.project_id != earlier.project_id:
        raise NotFound("the two snapshots belong to different projects")
    given = SnapshotPair(earlier_id=earlier.id, later_id=later.id)
    return start_job(later.project_id, COMPARE_SNAPSHOTS, "Compare snapshots", given)


@snapshots.post("/snapshots/<int:snapshot_id>/archive", responses={202: JobStarted})
def archive(path: schemas.SnapshotPath, body: schemas.ArchiveIn) -> Response:
    """Make an archive of a snapshot, in the background; `/jobs/{job_id}/file` has the file."""
    with context().reading() as session:
        snapshot = work.get_snapshot(session, path.snapshot_id)
    given = SnapshotArchive(snapshot_id=snapshot.id, format=body.format, with_pictures=body.with_pictures)
    title = f"Archive {snapshot.name or snapshot.content_hash[:12]}"
    return start_job(snapshot.project_id, ARCHIVE_SNAPSHOT, title, given)


def _out(snapshot: Snapshot, runs: int) -> schemas.SnapshotOut:
    return schemas.SnapshotOut(
        id=snapshot.id,
        name=snapshot.name,
        note=snapshot.note,
        content_hash=snapshot.content_hash,
        pictures=snapshot.pictures,
        boxes=snapshot.boxes,
        created_at=moment(snapshot.created_at),
        runs=runs,
    )


def _detail(session: Session, snapshot: Snapshot) -> schemas.SnapshotDetail:
    summary = work.read_summary(context().folder, snapshot)
    out = _out(snapshot, work.runs_of(session, [snapshot]).get(snapshot.id, 0))
    return schemas.SnapshotDetail(
        snapshot=out,
        classes=summary.classes,
        parts=summary.parts,
    )
