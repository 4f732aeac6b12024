"""Truths and detections that were made elsewhere, brought beside an evaluation."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel

from avocet.core.detections import PictureDetections
from avocet.core.errors import InputError
from avocet.core.raw.candidates import Candidates
from avocet.files import copy_file, write_bytes
from avocet.formats.coco import read_coco_with_ids
from avocet.formats.coco_results import read_results
from avocet.formats.record import RecordedPicture
from avocet.media.white import whites_of_files
from avocet.store.folder import DataFolder
from avocet.store.tables import Evaluation, Part
from avocet.work.exchange.located import Located, locate, opened_labels
from avocet.work.pictures.files import content_hash
from avocet.work.pictures.white import ProjectWhite
from avocet.work.problems import NotFound
from avocet.work.snapshots.frozen import Frozen, FrozenPicture, frozen_from

LARGEST_JSON = 1_000_000_000


class Truth(BaseModel):
    """A truth from outside as it is kept, with the numbers its file uses."""

    frozen: Frozen
    images: list[tuple[int | str, int]]
    """Id in the file, and place among the pictures or -1."""
    categories: list[tuple[int, int]]
    """Id in the file, and class index."""
    problems: list[str] = []


@dataclass(frozen=True)
class Numbers:
    """How a truth's pictures and classes are called in a results file."""

    images: Mapping[int | str, int]
    categories: Mapping[int, int]
    classes: Sequence[str]


def bring_truth(
    folder: DataFolder,
    project_id: int,
    path: Path,
    name: str,
    images: Path | None,
    needs_pictures: bool,
    white: ProjectWhite,
) -> Truth:
    """Read a COCO JSON, alone or in an archive with its pictures, which are copied.

    Parameters
    ----------
    folder : DataFolder
    project_id : int
    path : Path
    name : str
        What the sender calls it.
    images : Path, optional
        A folder with the pictures; they are copied too.
    needs_pictures : bool
        Whether a model is to look at them; detections alone can do without.
    white : ProjectWhite
        How pictures of more than 8 bits are read.

    Raises
    ------
    InputError
        If it is no COCO file, or has no picture or no box that can be used.
    """
    with opened_labels(path, images, name) as (files, place):
        documents = [each for each in files.names if each.lower().endswith(".json")]
        if len(documents) != 1:
            held = f"{len(documents)} JSON files" if documents else "no COCO JSON"
            raise InputError(f"{name} holds {held}; a truth from outside is read from one")
        called = documents[0]
        record, ids = read_coco_with_ids(files.read(called), called)
        if place is None:
            if needs_pictures:
                raise InputError(f"{name} has no pictures beside it; send an archive that holds both")
            problems = list(record.faults)
            pictures = record.pictures
            nameless = [each.name for each in pictures if not each.width or not each.height]
            if nameless:
                raise InputError(
                    f"{called}: {nameless[0]} has no width and height, and its picture is not here"
                )
            located = Located(record, {}, problems, [], called)
        else:
            located = locate(record, place, called)
        if not located.record.pictures:
            raise InputError(f"{called} has no picture to measure on" + _first(located.problems))
        if not any(picture.boxes for picture in located.record.pictures):
            raise InputError(f"{called} has no box to measure against")
        known = located.paths
        sent = [(known[each.name], each.name) for each in located.record.pictures if each.name in known]
        settled = whites_of_files(sent, white.chosen, white.of_set).whites
        whites = {sent[place][1]: value for place, value in settled.items()}
        frozen = Frozen(
            classes=record.class_names,
            pictures=[
                _frozen(folder, project_id, number, each, known.get(each.name), whites.get(each.name))
                for number, each in enumerate(located.record.pictures, start=1)
            ],
        )
    places = {each.name: number for number, each in enumerate(frozen.pictures)}
    return Truth(
        frozen=frozen,
        images=[(ident, places.get(file, -1)) for ident, file in ids.images.items()],
        categories=[(ident, frozen.classes.index(label)) for ident, label in ids.categories.items()],
        problems=located.problems,
    )


def keep_truth(folder: DataFolder, project_id: int, evaluation_id: int, truth: Truth) -> None:
    """Write a truth beside its evaluation."""
    write_bytes(_truth_file(folder, project_id, evaluation_id), truth.model_dump_json().encode())


def kept_truth(folder: DataFolder, project_id: int, evaluation_id: int) -> Truth:
    """The truth beside an evaluation, or `NotFound`."""
    path = _truth_file(folder, project_id, evaluation_id)
    if not path.is_file():
        raise NotFound(f"the truth of this measurement is missing ({path})")
    return Truth.model_validate_json(path.read_bytes())


def held_out_file(folder: DataFolder, project_id: int, evaluation_id: int) -> Path:
    """The pictures of a snapshot that were measured on, so that opening figures reads no more than these."""
    return folder.evaluation_place(project_id, evaluation_id) / "held-out.json"


def keep_held_out(folder: DataFolder, evaluation: Evaluation, frozen: Frozen) -> None:
    """Keep the pictures of a snapshot's part that an evaluation measures on."""
    held_out = [each for each in frozen.pictures if each.part == evaluation.part]
    kept = Frozen.model_construct(classes=frozen.classes, pictures=held_out)
    path = held_out_file(folder, evaluation.project_id, evaluation.id)
    write_bytes(path, kept.model_dump_json().encode())


def numbers_of(frozen: Frozen, part: Part | None) -> Numbers:
    """Ids in a COCO export of a snapshot: pictures and classes counted from 1."""
    chosen = [number for number, each in enumerate(frozen.pictures) if each.part == part]
    place = {number: index for index, number in enumerate(chosen)}
    return Numbers(
        {number + 1: place.get(number, -1) for number in range(len(frozen.pictures))},
        {number + 1: number for number in range(len(frozen.classes))},
        frozen.classes,
    )


def read_detections(
    path: Path, name: str, numbers: Numbers, pictures: int, class_map: Mapping[str, str]
) -> list[Candidates]:
    """Detections of another program as candidates; ``class_map`` names the class that a category id means; an empty name leaves it out.

    Raises
    ------
    InputError
        See `avocet.formats.coco_results.read_results`.
    """
    if path.stat().st_size > LARGEST_JSON:
        raise InputError(f"{name} is larger than {LARGEST_JSON:,} bytes")
    ids = {numbers.classes[index]: ident for ident, index in numbers.categories.items()}
    mapping: dict[int, int | None] = {}
    for said, meant in class_map.items():
        if not said.lstrip("-").isdigit():
            raise InputError(f"{said!r} is no category id, which is a whole number")
        if meant and meant not in ids:
            raise InputError(f"the truth has no class {meant!r}; it has {', '.join(numbers.classes)}")
        mapping[int(said)] = ids[meant] if meant else None
    found = read_results(path.read_bytes(), name, numbers.images, numbers.categories, pictures, mapping)
    return [_as_candidates(each) for each in found]


def strange_categories(path: Path, numbers: Numbers) -> list[str]:
    """Category ids of a results file that the truth does not have."""
    try:
        entries: Any = json.loads(path.read_bytes())
    except (ValueError, RecursionError):
        return []
    found: set[int] = {
        entry["category_id"]
        for entry in (entries if isinstance(entries, list) else [])
        if isinstance(entry, dict) and isinstance(entry.get("category_id"), int)
    }
    return [str(each) for each in sorted(found - set(numbers.categories))]


def _as_candidates(found: PictureDetections) -> Candidates:
    order = np.argsort(-found.scores, kind="stable")
    return Candidates(found.boxes[order], found.scores[order], found.classes[order])


def _frozen(
    folder: DataFolder,
    project_id: int,
    number: int,
    picture: RecordedPicture,
    path: Path | None,
    white: float | None,
) -> FrozenPicture:
    digest, suffix = "", ""
    if path is not None:
        digest, suffix = content_hash(path), path.suffix.lower()
        target = folder.picture(project_id, digest, suffix)
        if not target.is_file():
            copy_file(path, target)
    return frozen_from(picture, number, digest, suffix, white)


def _truth_file(folder: DataFolder, project_id: int, evaluation_id: int) -> Path:
    return folder.evaluation_place(project_id, evaluation_id) / "truth.json"


def _first(problems: Sequence[str]) -> str:
    return f": {problems[0]}" if problems else ""
