"""Two snapshots compared."""

from collections import Counter
from dataclasses import dataclass, field

from avocet.core.labels.comparing import compare_boxes
from avocet.store.database import reading
from avocet.work.job_givens import SnapshotPair
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import ClassDiffers, NamesFound, Relabelled, SnapshotsCompared
from avocet.work.snapshots.frozen import Frozen, FrozenPicture
from avocet.work.snapshots.snapshots import get_snapshot, read_snapshot

MOST_NAMES = 500
"""Pictures that are named; all are counted."""


@dataclass
class ClassChanges:
    """Boxes of a class that differ between two snapshots."""

    added: int = 0
    gone: int = 0
    moved: int = 0
    relabelled: int = 0


@dataclass
class SnapshotComparison:
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


def compare_snapshots(before: Frozen, after: Frozen) -> SnapshotComparison:
    """Pictures and boxes added, gone, moved and relabelled; pictures are known by their content."""
    old = {picture.content_hash: picture for picture in before.pictures}
    new = {picture.content_hash: picture for picture in after.pictures}
    result = SnapshotComparison(
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


def _labels(frozen: Frozen, picture: FrozenPicture | None) -> list[str]:
    return [frozen.classes[box.label] for box in picture.boxes] if picture else []


def _corners(picture: FrozenPicture | None) -> list[tuple[float, ...]]:
    return [box.corners for box in picture.boxes] if picture else []


def do_compare(task: Task[SnapshotPair]) -> SnapshotsCompared:
    """Compare two snapshots in the background."""
    with reading(task.sessions)() as session:
        earlier, later = (
            get_snapshot(session, each) for each in (task.given.earlier_id, task.given.later_id)
        )
    found = compare_snapshots(read_snapshot(task.folder, earlier), read_snapshot(task.folder, later))
    return SnapshotsCompared(
        pictures_added=_named(found.pictures_added),
        pictures_gone=_named(found.pictures_gone),
        pictures_changed=_named(found.pictures_changed),
        other_part=_named(found.other_part),
        classes=[ClassDiffers(name=name, **vars(each)) for name, each in sorted(found.classes.items())],
        relabelled=[
            Relabelled(before=before, after=after, boxes=count)
            for (before, after), count in sorted(found.relabelled.items())
        ],
    )


def _named(names: list[str]) -> NamesFound:
    return NamesFound(count=len(names), names=names[:MOST_NAMES])
