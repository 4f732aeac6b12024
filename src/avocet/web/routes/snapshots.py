"""Snapshots: frozen, compared, taken away as archives."""

from collections import Counter

from flask import Response, send_file
from flask_openapi3 import APIBlueprint, Tag
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.store.tables import Part, Run, Snapshot
from avocet.web.context import context, job_out, moment, reply
from avocet.web.schemas import labels as schemas
from avocet.web.schemas.collect import JobStarted
from avocet.web.schemas.common import ProjectPath
from avocet.web.schemas.learn import JobPath
from avocet.work import snapshots as work
from avocet.work.archiving import compare_snapshots
from avocet.work.jobs import create_job, get_job
from avocet.work.listing import Filter
from avocet.work.problems import NotFound

snapshots = APIBlueprint("snapshots", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="snapshots")])


@snapshots.get("/projects/<int:project_id>/snapshots", responses={200: schemas.SnapshotList})
def list_snapshots(path: ProjectPath) -> Response:
    """The project's snapshots, newest first."""
    with context().reading() as session:
        found = work.list_snapshots(session, path.project_id)
        return reply(schemas.SnapshotList(snapshots=[_out(session, each) for each in found]))


@snapshots.post("/projects/<int:project_id>/snapshots", responses={201: schemas.SnapshotDetail})
def freeze(path: ProjectPath, body: schemas.SnapshotIn) -> Response:
    """Freeze the labels as they are now; the same labels give the same snapshot."""
    wanted = Filter(**body.filter.model_dump())
    with context().sessions.begin() as session:
        snapshot = work.freeze(
            session,
            context().folder,
            path.project_id,
            body.name,
            body.note,
            wanted,
            body.class_map,
            body.new_names,
        )
        return reply(_detail(session, snapshot), 201)


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
        return reply(_out(session, snapshot))


@snapshots.get("/snapshots/<int:snapshot_id>/compared/<int:other_id>", responses={200: schemas.ComparisonOut})
def compare(path: schemas.ComparePath) -> Response:
    """What differs from an earlier snapshot (`other_id`)."""
    with context().reading() as session:
        later, earlier = (work.get_snapshot(session, each) for each in (path.snapshot_id, path.other_id))
        if later.project_id != earlier.project_id:
            raise NotFound("the two snapshots belong to different projects")
        folder = context().folder
        found = compare_snapshots(work.read_snapshot(folder, earlier), work.read_snapshot(folder, later))
    classes = [
        schemas.ClassChangesOut(name=name, **vars(each)) for name, each in sorted(found.classes.items())
    ]
    relabelled = [
        schemas.RelabelledOut(before=before, after=after, boxes=count)
        for (before, after), count in sorted(found.relabelled.items())
    ]
    return reply(
        schemas.ComparisonOut(
            pictures_added=found.pictures_added,
            pictures_gone=found.pictures_gone,
            pictures_changed=found.pictures_changed,
            other_part=found.other_part,
            classes=classes,
            relabelled=relabelled,
        )
    )


@snapshots.post("/snapshots/<int:snapshot_id>/archive", responses={202: JobStarted})
def archive(path: schemas.SnapshotPath, body: schemas.ArchiveIn) -> Response:
    """Make an archive of a snapshot for downloading, in the background."""
    with context().sessions.begin() as session:
        snapshot = work.get_snapshot(session, path.snapshot_id)
        title = f"Archive {snapshot.name or snapshot.content_hash[:12]}"
        given = {"snapshot_id": snapshot.id, "format": body.format, "with_pictures": body.with_pictures}
        job = create_job(session, snapshot.project_id, "archive_snapshot", title, given)
        job.arguments = given | {"job_id": job.id}
    context().enqueue(job.id, job.kind)
    return reply(JobStarted(job=job_out(job)), 202)


@snapshots.get("/archives/<int:job_id>")
def download(path: JobPath) -> Response:
    """An archive that a job has made."""
    with context().reading() as session:
        job = get_job(session, path.job_id)
    file = context().folder.export(job.id)
    if job.kind != "archive_snapshot" or not file.is_file():
        raise NotFound("this archive is not here any more; make it again")
    return send_file(
        file, "application/zip", as_attachment=True, download_name=job.outcome.get("file", "snapshot.zip")
    )


def _out(session: Session, snapshot: Snapshot) -> schemas.SnapshotOut:
    runs = session.scalar(select(func.count(Run.id)).where(Run.snapshot_id == snapshot.id)) or 0
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
    frozen = work.read_snapshot(context().folder, snapshot)
    parts = []
    held = {picture.part for picture in frozen.pictures}
    for part in (each for each in (*Part, None) if each in held):
        own = [picture for picture in frozen.pictures if picture.part == part]
        boxes = Counter(frozen.classes[box[0]] for picture in own for box in picture.boxes)
        parts.append(schemas.SnapshotPartOut(part=part, pictures=len(own), boxes=dict(boxes)))
    return schemas.SnapshotDetail(snapshot=_out(session, snapshot), classes=frozen.classes, parts=parts)
