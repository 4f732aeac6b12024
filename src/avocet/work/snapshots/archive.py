"""Snapshots and labels as archives, and snapshots compared."""

import zipfile

from avocet.files import replacing, safe_name
from avocet.formats.kinds import format_called
from avocet.formats.names import told_apart
from avocet.formats.parts import write_parts
from avocet.formats.record import Record, RecordedBox, RecordedPicture
from avocet.store.database import reading
from avocet.work.job_givens import SnapshotArchive
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FileMade
from avocet.work.progress import Stopped
from avocet.work.snapshots.frozen import Frozen, frozen_file
from avocet.work.snapshots.snapshots import get_snapshot, read_snapshot


def snapshot_record(frozen: Frozen) -> Record:
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
    names = distinct_names(frozen)
    record = snapshot_record(frozen)
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
