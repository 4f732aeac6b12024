"""Measuring a bundle or detections on a truth, all from files, without a data folder."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from avocet.core.errors import InputError
from avocet.core.raw.candidates import EVERY_SCORE, MEASURING_SCORE, MINIMUM_SCORE, OVERLAP_LIMIT
from avocet.detector.model.card import score_map
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.formats.coco import CocoIds, read_coco_with_ids
from avocet.formats.kinds import recognise
from avocet.formats.record import find_nothing
from avocet.media.pictures import read_picture
from avocet.media.white import whites_of_files
from avocet.work.exchange.located import Located, locate, opened_labels
from avocet.work.judge.opened import Measured
from avocet.work.judge.report import by_name, find_candidates, measure
from avocet.work.judge.sent import Numbers, read_detections
from avocet.work.progress import Reporter
from avocet.work.snapshots.frozen import FrozenPicture, frozen_from, truth_in


@dataclass(frozen=True)
class FileTruth:
    """A truth that was read from files.

    Attributes
    ----------
    name : str
    located : Located
    pictures : list of FrozenPicture
    problems : list of str
    numbers : Numbers or None
        None where the truth is no COCO JSON, so that detections cannot refer to it.
    """

    name: str
    located: Located
    pictures: list[FrozenPicture]
    problems: list[str]
    numbers: Numbers | None

    @property
    def classes(self) -> list[str]:
        return self.located.record.class_names


@dataclass(frozen=True)
class FileMeasured:
    """What was measured, and what should be said of it."""

    measured: Measured
    figures: dict[str, Any]
    overlap_limit: float
    notes: list[str]


@contextmanager
def read_truth(path: Path, images: Path | None, needs_pictures: bool) -> Iterator[FileTruth]:
    """Read a truth; its pictures stay where they are for as long as it is used.

    Raises
    ------
    InputError
        If there is no picture or no box to measure on, or pictures are needed and not there.
    """
    with opened_labels(path, images) as (files, folder):
        if folder is None and needs_pictures:
            raise InputError(f"{path.name} has no pictures beside it; name their folder with --pictures")
        documents = [each for each in files.names if each.lower().endswith(".json")]
        ids: CocoIds | None = None
        if len(documents) == 1:
            record, ids = read_coco_with_ids(files.read(documents[0]), documents[0])
        else:
            record = recognise(files).read(files, folder.find if folder else find_nothing)
        located = (
            locate(record, folder, path.name)
            if folder
            else Located(record, {}, list(record.faults), [], path.name)
        )
        if not located.record.pictures:
            raise InputError(f"{path.name} has no picture to measure on")
        if not any(picture.boxes for picture in located.record.pictures):
            raise InputError(f"{path.name} has no box to measure against")
        numbers = _numbers(ids, located) if ids is not None else None
        pictures = [frozen_from(each, number) for number, each in enumerate(located.record.pictures, start=1)]
        yield FileTruth(path.name, located, pictures, located.problems, numbers)


def measure_file(
    truth: FileTruth,
    path: Path,
    is_detections: bool,
    class_map: dict[str, str],
    settings: dict[str, Any],
    reporter: Reporter,
    cluster: str | None = None,
) -> FileMeasured:
    """Measure a bundle, or detections of another program.

    Raises
    ------
    InputError
        If the file cannot be used, or knows no class of the truth.
    """
    notes: list[str] = []
    if is_detections:
        if truth.numbers is None:
            raise InputError(f"{truth.name} is no COCO JSON, whose ids the detections would refer to")
        if not path.is_file():
            raise InputError(f"{path}: there is no such file of detections")
        candidates = read_detections(path, path.name, truth.numbers, len(truth.pictures), class_map)
        limit, lowest, about = 1.0, EVERY_SCORE, dict[str, Any](minimum_score=MINIMUM_SCORE)
    else:
        # Imported here: torch takes seconds that a measurement of detections need not wait for.
        from avocet.detector.model.predictor import Predictor
        from avocet.work.cluster.finding import finding
        from avocet.work.models.bundle_set import Bundles

        predictor = Predictor.from_bundle(path)
        names = [class_map.get(name, name) for name in predictor.classes]
        used = {box.label for picture in truth.located.record.pictures for box in picture.boxes}
        unknown = [truth.classes[label] for label in sorted(used) if truth.classes[label] not in names]
        if len(unknown) == len(used):
            raise InputError(
                f"{path.name} knows the classes {', '.join(predictor.classes)}; "
                f"{truth.name} has only others: {', '.join(unknown)}"
            )
        if unknown:
            notes.append(
                f"{path.name} does not know the classes {', '.join(unknown)}; they count as never found"
            )
        labelled = _labelled(truth, settings.get("white"), predictor.about.get("white"))
        with finding(cluster, predictor, Bundles((path,)), "avocet evaluate") as (finder, at_once):
            found = find_candidates(finder, labelled, reporter, at_once)
        candidates = by_name(found, names, truth.classes)
        limit, lowest, about = OVERLAP_LIMIT, MEASURING_SCORE, predictor.about
    limit = settings["overlap_limit"] if settings["overlap_limit"] is not None else limit
    measured = Measured(path.name, truth.classes, truth.pictures, candidates)
    truths = [truth_in(picture) for picture in truth.pictures]
    least = settings["minimum_score"] if settings["minimum_score"] is not None else about["minimum_score"]
    figures = measure(
        truth.classes, truths, candidates, limit, settings["interpolation"], settings["areas"], least,
        score_map(about.get("calibration")), lowest,
    )  # fmt: skip
    return FileMeasured(measured, figures, limit, notes)


def _numbers(ids: CocoIds, located: Located) -> Numbers:
    places = {each.name: number for number, each in enumerate(located.record.pictures)}
    names = located.record.class_names
    return Numbers(
        {ident: places.get(file, -1) for ident, file in ids.images.items()},
        {ident: names.index(label) for ident, label in ids.categories.items()},
        names,
    )


def _labelled(truth: FileTruth, chosen: float | None, usual: float | None) -> list[LabelledPicture]:
    """The pictures, ready to be looked at; deep ones are read as a detection run of the same model reads them."""
    files = [(truth.located.paths[each.name], each.name) for each in truth.pictures]
    whites = whites_of_files(files, chosen, usual).whites
    return [
        LabelledPicture(
            picture.name,
            picture.width,
            picture.height,
            partial(read_picture, path, name, white=whites.get(place)),
            truth_in(picture),
            whites.get(place),
        )
        for place, (picture, (path, name)) in enumerate(zip(truth.pictures, files, strict=True))
    ]
