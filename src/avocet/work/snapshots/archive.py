"""Snapshots and labels as archives, and snapshots compared."""

import zipfile
from collections.abc import Mapping
from types import MappingProxyType

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.files import replacing, safe_name
from avocet.formats.kinds import format_called
from avocet.formats.names import told_apart
from avocet.formats.parts import write_parts
from avocet.formats.record import Record, RecordedBox, RecordedPicture
from avocet.store.database import reading
from avocet.store.rows import among
from avocet.store.tables import Box
from avocet.work.job_givens import SnapshotArchive
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FileMade
from avocet.work.progress import Stopped
from avocet.work.snapshots.frozen import Frozen, frozen_file
from avocet.work.snapshots.snapshots import get_snapshot, read_snapshot

Origins = Mapping[tuple[int, tuple[float, ...]], str]
"""Where boxes come from, by the number of their picture and their corners."""


def origins_now(session: Session, frozen: Frozen) -> Origins:
    """Where the boxes of a snapshot come from, as far as they still lie where it has them: it does not say itself."""
    ids = [picture.id for picture in frozen.pictures]
    query = select(Box.picture_id, Box.x1, Box.y1, Box.x2, Box.y2, Box.origin)
    rows = session.execute(query.where(among(Box.picture_id, ids)))
    return {(picture_id, tuple(corners)): origin for picture_id, *corners, origin in rows}


def snapshot_record(frozen: Frozen, origins: Origins = MappingProxyType({})) -> Record:
    """A snapshot as a record that any format can write."""
    return Record(
        frozen.classes,
        [
            RecordedPicture(
                picture.name,
                picture.width,
                picture.height,
                [
                    RecordedBox(
                        box.label,
                        box.corners,
                        box.crowd,
                        picture.attributes.get(number, {}),
                        picture.tracks.get(number),
                        origin=origins.get((picture.id, box.corners), ""),
                    )
                    for number, box in enumerate(picture.boxes)
                ],
            )
            for picture in frozen.pictures
        ],
    )


def do_archive(task: Task[SnapshotArchive]) -> FileMade:
    """Write a snapshot as an archive for downloading: labels, parts and, if wanted, the pictures."""
    folder, reporter, with_pictures = task.folder, task.reporter, task.given.with_pictures
    into = format_called(task.given.format)
    with reading(task.sessions)() as session:
        snapshot = get_snapshot(session, task.given.snapshot_id)
        frozen = read_snapshot(folder, snapshot)
        origins = origins_now(session, frozen)
    names = distinct_names(frozen)
    record = snapshot_record(frozen, origins)
    renamed = [
        RecordedPicture(name, each.width, each.height, each.boxes)
        for name, each in zip(names, record.pictures, strict=True)
    ]
    parts = {name: each.part.value for name, each in zip(names, frozen.pictures, strict=True) if each.part}
    path = folder.export(task.job_id)
    path.parent.mkdir(parents=True, exist_ok=True)
    with replacing(path) as temporary, zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as opened:
        for name, content in (*into.write(Record(record.class_names, renamed)), write_parts(parts)):
            opened.writestr(name, content)
        for number, (name, picture) in enumerate(zip(names, frozen.pictures, strict=True), start=1):
            if reporter.should_stop():
                raise Stopped
            if with_pictures:
                # Pictures are packed already.
                opened.write(frozen_file(folder, snapshot.project_id, picture), name, zipfile.ZIP_STORED)
            reporter.progress(number, len(names), f"{number} of {len(names)} pictures")
    called = safe_name(snapshot.name or snapshot.content_hash[:12])
    return FileMade(file=f"{called}-{into.key}.zip")


def distinct_names(frozen: Frozen) -> list[str]:
    """The pictures' names, made distinct where two pictures share one."""
    return told_apart([(picture.name, picture.content_hash) for picture in frozen.pictures])
