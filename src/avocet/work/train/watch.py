"""Following a run: what its figures hint at, and what it finds on its watch pictures."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from avocet.detector.training.watching import read_watched, watched_epochs
from avocet.files import write_bytes
from avocet.store.folder import DataFolder
from avocet.store.tables import Run
from avocet.work.problems import NotFound
from avocet.work.snapshots.frozen import Frozen, FrozenPicture
from avocet.work.snapshots.snapshots import read_snapshot
from avocet.work.train.hints import Hint, training_hints
from avocet.work.train.runs import get_run

PARTS = ("box", "objectness", "classes")


@dataclass(frozen=True)
class Watch:
    """A run's watch pictures with their truths, and the epochs that can be looked at."""

    class_names: list[str]
    pictures: list[FrozenPicture]
    epochs: list[int]


def hints_of(run: Run) -> list[Hint]:
    """Hints that a run's figures give."""
    measured = [each for each in run.epochs if each.figures.get("validation")]
    if not measured:
        return []
    held = [each.figures["validation"] for each in measured]
    names = held[-1]["by_class"]
    return training_hints(
        [each.epoch for each in measured],
        [sum(each.figures[part] for part in PARTS) for each in measured],
        [sum(each[part] for part in PARTS) for each in held],
        {name: [each["by_class"].get(name, {}).get("predicted") or 0 for each in held] for name in names}
        if all("predicted" in entry for entry in names.values())
        else {},
        {name: entry["truths"] for name, entry in names.items()},
    )


def watched_file(place: Path) -> Path:
    """A run's watch pictures as its snapshot has them, so that looking at them reads no more than these."""
    return place / "watched.json"


def keep_watched_pictures(place: Path, frozen: Frozen, watched: Sequence[int]) -> None:
    """Keep the watch pictures, by their numbers, in a run's folder."""
    by_id = {picture.id: picture for picture in frozen.pictures}
    kept = Frozen.model_construct(classes=frozen.classes, pictures=[by_id[each] for each in watched])
    write_bytes(watched_file(place), kept.model_dump_json().encode())


def watch_of(session: Session, folder: DataFolder, run_id: int) -> Watch:
    """The watch pictures of a run."""
    run = get_run(session, run_id)
    kept = watched_file(folder.run(run.project_id, run.id))
    frozen = (
        Frozen.model_validate_json(kept.read_bytes())
        if kept.is_file()
        else read_snapshot(folder, run.snapshot)
    )
    by_id = {picture.id: picture for picture in frozen.pictures}
    last = run.epochs[-1].epoch if run.epochs else 0
    pictures = [by_id[each] for each in run.watched if each in by_id]
    return Watch(frozen.classes, pictures, watched_epochs(folder.run(run.project_id, run.id), last))


def watched_epoch(session: Session, folder: DataFolder, run_id: int, epoch: int) -> list[dict[str, Any]]:
    """What an epoch found on each watch picture. Raises `NotFound`."""
    run = get_run(session, run_id)
    kept = read_watched(folder.run(run.project_id, run.id), epoch)
    if kept is None:
        raise NotFound(f"of epoch {epoch} of {run.name} nothing was kept")
    return kept
