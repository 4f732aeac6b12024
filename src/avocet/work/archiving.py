"""Snapshots and labels as archives, and snapshots compared."""

import zipfile
from collections import Counter
from dataclasses import dataclass, field

from sqlalchemy.orm import Session, sessionmaker

from avocet.core.comparing import compare_boxes
from avocet.files import replacing
from avocet.formats.kinds import format_called
from avocet.formats.parts import write_parts
from avocet.formats.record import Record, RecordedBox, RecordedPicture
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.work.progress import Reporter, Stopped
from avocet.work.snapshots import Frozen, FrozenPicture, frozen_file, get_snapshot, read_snapshot


@dataclass
class ClassChanges:
    """Boxes of a class that differ between two snapshots."""

    added: int = 0
    gone: int = 0
    moved: int = 0
    relabelled: int = 0


@dataclass
class Comparison:
    """What differs between an earlier and a later snapshot.

    Attributes
    ----------
    pictures_added, pictures_gone, pictures_changed : list of str
        Names; changed are those with other boxes.
    other_part : list of str
        Pictures in another part of the split.
    classes : dict of str to ClassChanges
        By name; a relabelled box counts under its earlier class.
    relabelled : dict of (str, str) to int
        How many boxes went from one class to another.
    """

    pictures_added: list[str] = field(default_factory=list)
    pictures_gone: list[str] = field(default_factory=list)
    pictures_changed: list[str] = field(default_factory=list)
    other_part: list[str] = field(default_factory=list)
    classes: dict[str, ClassChanges] = field(default_factory=dict)
    relabelled: dict[tuple[str, str], int] = field(default_factory=dict)


def compare_snapshots(before: Frozen, after: Frozen) -> Comparison:
    """Pictures and boxes added, gone, moved and relabelled; pictures are known by their content."""
    old = {picture.content_hash: picture for picture in before.pictures}
    new = {picture.content_hash: picture for picture in after.pictures}
    result = Comparison(
        pictures_added=[new[key].name for key in new.keys() - old.keys()],
        pictures_gone=[old[key].name for key in old.keys() - new.keys()],
    )
    turned: Counter[tuple[str, str]] = Counter()

    def of(name: str) -> ClassChanges:
        return result.classes.setdefault(name, ClassChanges())

    for key in old.keys() | new.keys():
        first, second = old.get(key), new.get(key)
        first_names, second_names = _labels(before, first), _labels(after, second)
        if first and second and first.part != second.part:
            result.other_part.append(second.name)
        changes = compare_boxes(_corners(first), first_names, _corners(second), second_names)
        for index in changes.added:
            of(second_names[index]).added += 1
        for index in changes.gone:
            of(first_names[index]).gone += 1
        for index, _ in changes.moved:
            of(first_names[index]).moved += 1
        for index, later in changes.relabelled:
            of(first_names[index]).relabelled += 1
            turned[first_names[index], second_names[later]] += 1
        differs = changes.added or changes.gone or changes.moved or changes.relabelled
        if first and second and differs:
            result.pictures_changed.append(second.name)
    for names in (result.pictures_added, result.pictures_gone, result.pictures_changed, result.other_part):
        names.sort()
    result.relabelled = dict(turned)
    return result


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
                        label,
                        (x1, y1, x2, y2),
                        crowd,
                        picture.attributes.get(number, {}),
                        picture.tracks.get(number),
                    )
                    for number, (label, x1, y1, x2, y2, crowd) in enumerate(picture.boxes)
                ],
            )
            for picture in frozen.pictures
        ],
    )


def archive_snapshot(
    sessions: sessionmaker[Session],
    folder: DataFolder,
    snapshot_id: int,
    format_key: str,
    with_pictures: bool,
    job_id: int,
    reporter: Reporter,
) -> dict[str, str]:
    """Write a snapshot as an archive for downloading: labels, parts and, if wanted, the pictures."""
    into = format_called(format_key)
    with reading(sessions)() as session:
        snapshot = get_snapshot(session, snapshot_id)
    frozen = read_snapshot(folder, snapshot)
    names = distinct_names(frozen)
    record = snapshot_record(frozen)
    renamed = [
        RecordedPicture(name, each.width, each.height, each.boxes)
        for name, each in zip(names, record.pictures, strict=True)
    ]
    parts = {name: each.part.value for name, each in zip(names, frozen.pictures, strict=True) if each.part}
    path = folder.export(job_id)
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
    called = "".join(c if c.isalnum() else "-" for c in snapshot.name or snapshot.content_hash[:12])
    return {"file": f"{called}-{into.key}.zip"}


def distinct_names(frozen: Frozen) -> list[str]:
    """The pictures' names, made distinct where two pictures share one."""
    counts = Counter(picture.name for picture in frozen.pictures)
    return [
        picture.name if counts[picture.name] == 1 else f"{picture.content_hash[:8]}-{picture.name}"
        for picture in frozen.pictures
    ]


def _labels(frozen: Frozen, picture: FrozenPicture | None) -> list[str]:
    return [frozen.classes[box[0]] for box in picture.boxes] if picture else []


def _corners(picture: FrozenPicture | None) -> list[tuple[float, ...]]:
    return [box[1:5] for box in picture.boxes] if picture else []
