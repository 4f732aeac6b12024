"""Detection over pictures and clips: the record, copies, the record in other formats, a summary."""

import shutil
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

from avocet.core.errors import InputError
from avocet.detector.model.finder import Finder
from avocet.files import is_unfinished
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.pictures import SUFFIXES as PICTURE_SUFFIXES
from avocet.media.white import whites_of_files
from avocet.readable import readable
from avocet.work.progress import Reporter, Stopped
from avocet.work.use.running.clip_run import look_at_clip
from avocet.work.use.running.copies import ANNOTATED, CROPS, Copier, into_folder
from avocet.work.use.running.course import Course, Input
from avocet.work.use.running.known import known_inputs, read_known, write_known
from avocet.work.use.running.looking import Looker, Row
from avocet.work.use.running.objects import TRACKS, ClipObjects, objects_by_class, write_tracks
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.record import RunRecord, read_record
from avocet.work.use.running.stills import look_at_stills
from avocet.work.use.running.written import (
    COCO_NAME,
    COUNTS_CSV,
    CROPS_CSV,
    CSV_NAME,
    JSON_NAME,
    OBJECTS_CSV,
    OBJECTS_JSON,
    TEXT_NAME,
    Numbered,
    write_all,
    write_objects,
)

MADE = (JSON_NAME, CSV_NAME, COCO_NAME, TEXT_NAME, OBJECTS_JSON, OBJECTS_CSV, CROPS_CSV, COUNTS_CSV, TRACKS)


class Spreading(Protocol):
    """Whoever lets other machines look."""

    @property
    def told(self) -> dict[str, Any]: ...

    def stills(
        self, items: Sequence[tuple[int, Input]], names: Mapping[int, str], course: Course
    ) -> None: ...

    def clip(
        self,
        place: int,
        item: Input,
        recorded: Sequence[Row],
        objects: ClipObjects,
        looker: Looker,
        copier: Copier,
        course: Course,
    ) -> None: ...


def gather(paths: Sequence[Path], without: Path | None = None) -> list[Input]:
    """Pictures and clips named directly or lying in the folders named, hidden ones left out.

    Parameters
    ----------
    paths : sequence of Path
    without : Path, optional
        A folder of results, which are no input.

    Raises
    ------
    InputError
        If a path does not exist, a file is neither picture nor clip, or there is nothing at all.
    """
    inputs: list[Input] = []
    for path in paths:
        if path.is_dir():
            inside = [
                Input(each, readable(each.relative_to(path).as_posix()))
                for each in sorted(path.rglob("*"))
                if each.suffix.lower() in PICTURE_SUFFIXES | CLIP_SUFFIXES
                and not each.name.startswith(".")
                and each.is_file()
            ]
            if not inside:
                raise InputError(f"{path} holds no picture and no clip")
            inputs += inside
        elif not path.exists():
            raise InputError(f"{path}: there is no such file or folder")
        elif path.suffix.lower() not in PICTURE_SUFFIXES | CLIP_SUFFIXES:
            raise InputError(f"{path} is neither a picture nor a clip that Avocet reads")
        elif not path.is_file():
            raise InputError(f"{path} is no file that can be read")
        else:
            inputs.append(Input(path, readable(path.name)))
    if without is not None:
        results = [(without / each).resolve() for each in (ANNOTATED, CROPS)]
        inputs = [
            each for each in inputs if not any(each.path.resolve().is_relative_to(one) for one in results)
        ]
        if not inputs:
            raise InputError(f"{without} holds nothing but earlier results; name the pictures to look at")
    return inputs


def detect(
    finder: Finder,
    inputs: Sequence[Input],
    out: Path,
    order: DetectionOrder,
    reporter: Reporter,
    go_on: bool = False,
    spread: "Spreading | None" = None,
) -> dict[str, Any]:
    """Run a model over pictures and clips.

    Parameters
    ----------
    finder : Finder
    inputs : sequence of Input
    out : Path
        Gets ``detections.jsonl`` as pictures are looked at, copies in ``annotated/`` and crops in ``crops/``
        where they are wanted, and at the end the same as JSON, CSV, COCO results and centre-text; boxes in
        original pixels. With clips also ``objects.json`` and ``objects.csv``: every object once, with its
        first and last sight.
    order : DetectionOrder
    reporter : Reporter
    go_on : bool
        Go on where an earlier attempt was broken off, doing nothing twice. Inputs that have come since are looked
        at too; those that are gone keep what was found on them.
    spread : Spreading, optional
        Other machines that look; the record is that of one machine.

    Returns
    -------
    dict
        Summary: pictures, detections by class, objects of clips by class, seconds, frames a second,
        seconds of each stage, problems. Where there are pictures of more than 8 bits ``white`` has how many ``pictures``
        they are, how many of them say so themselves (``declared``), and the ``whites`` that they are read with. Where a person asked to stop it holds ``stopped``.

    Raises
    ------
    InputError
        If the order does not fit the model, nothing could be read, or results cannot be written.
    """
    looker = Looker(finder, order)
    record = RunRecord(out, order, finder.about, go_on)
    known = known_inputs(inputs, read_known(out) if record.done else ())
    known, white = _with_white(known, order, finder.about)
    write_known(known, out)
    if not record.done:
        for each in (ANNOTATED, CROPS):
            shutil.rmtree(out / each, ignore_errors=True)
        for name in MADE:
            (out / name).unlink(missing_ok=True)
    for left in (each for each in out.rglob("*") if is_unfinished(each.name)):
        left.unlink(missing_ok=True)
    copier = Copier(order, looker.classes, into_folder(out))
    course = Course(record, reporter, sum(each.frames(order) for each in known))
    clips: list[ClipObjects] = []
    stopped = False
    try:
        _look(list(enumerate(known)), looker, copier, course, clips, spread)
    except Stopped:
        stopped = True
    finally:
        record.close()
    if not course.pictures and course.problems and not stopped:
        raise InputError("; ".join(course.problems[:5]))
    summary = _ended(finder, known, out, order, course, clips, stopped, white)
    return summary | (spread.told if spread is not None else {})


def _with_white(
    inputs: Sequence[Input], order: DetectionOrder, about: Mapping[str, Any]
) -> tuple[list[Input], dict[str, Any] | None]:
    """Inputs with the white of those of more than 8 bits, and what the summary tells of it; None where there are none.

    Those of a project and of an earlier attempt keep theirs unless another is chosen.
    """
    known = {place: each.white for place, each in enumerate(inputs) if each.white is not None}
    files = [(each.path, each.name) for each in inputs]
    settled = whites_of_files(files, order.white, about.get("white"), known)
    made = [replace(each, white=settled.whites.get(place)) for place, each in enumerate(inputs)]
    if not settled.whites:
        return made, None
    whites = sorted(set(settled.whites.values()))
    return made, {"pictures": len(settled.whites), "declared": settled.declared, "whites": whites}


def _look(
    items: Sequence[tuple[int, Input]],
    looker: Looker,
    copier: Copier,
    course: Course,
    clips: list[ClipObjects],
    spread: "Spreading | None",
) -> None:
    """Look at what is not recorded yet: pictures first, then clip after clip.

    Of what has gone since an earlier attempt what is recorded stays, and a picture without a record is one that
    cannot be read.
    """
    done = course.record.done
    stills = [(place, item) for place, item in items if not item.is_clip]
    pictures = {item.name for _, item in stills}
    if done:
        for row in read_record(course.record.path):
            if row["name"] in pictures:
                course.before(row)
                if "annotated" in row:
                    course.copies.append(row["annotated"].removeprefix(f"{ANNOTATED}/"))
    # Named before any is left out, so that a run that goes on names them the same.
    names = {place: copier.free_name(item.name, ".jpg") for place, item in stills}
    open_stills = [each for each in stills if not done[each[1].name]]
    if spread is None:
        look_at_stills(open_stills, names, looker, copier, course)
    elif open_stills:
        spread.stills(open_stills, names, course)
    for place, item in items:
        if not item.is_clip:
            continue
        before = list(_rows_of(course.record, item)) if course.record.done[item.name] else []
        if any("problem" in row for row in before):
            for row in before:
                course.before(row)
            continue
        taken = sum(len(each.tracks()) for each in clips)
        clips.append(ClipObjects(item.name, looker.least, looker.order.overlap_limit, taken))
        try:
            if spread is None:
                look_at_clip(place, item, iter(before), clips[-1], looker, copier, course)
            else:
                spread.clip(place, item, before, clips[-1], looker, copier, course)
        except InputError as error:
            course.add({"name": item.name, "problem": str(error)})


def _rows_of(record: RunRecord, item: Input) -> Iterator[Row]:
    for row in read_record(record.path):
        if row["name"] == item.name:
            yield row


def _ended(
    finder: Finder,
    inputs: Sequence[Input],
    out: Path,
    order: DetectionOrder,
    course: Course,
    clips: Sequence[ClipObjects],
    stopped: bool,
    white: dict[str, Any] | None,
) -> dict[str, Any]:
    has_clip = any(each.is_clip for each in inputs)
    objects = [each for clip in clips for each in clip.described(finder.classes)]
    summary = course.summary(list(finder.classes)) | {
        "objects": objects_by_class(objects, finder.classes) if has_clip else None,
        "engine": finder.about.get("engine", ""),
        "stopped": stopped,
    }
    if white is not None:
        summary["white"] = white
    head = {
        "model": finder.about,
        "minimum_score": order.minimum_score,
        "minimum_scores": order.minimum_scores,
        "overlap_limit": order.overlap_limit,
        "box": "x1, y1, x2, y2 in pixels of the original picture",
        "summary": summary,
    }
    write_all(out, head, finder.classes, _numbered(clips), order.crops)
    if has_clip:
        write_objects(objects, out)
        # A clip of which nothing could be read has no place in the record either.
        write_tracks([each for each in clips if each.frames], out)
    return summary | {"copies": course.copies}


def _numbered(clips: Sequence[ClipObjects]) -> Numbered:
    """The object's number of each box."""
    found = {}
    for clip in clips:
        for number, track in enumerate(clip.tracks(), start=clip.numbered_from + 1):
            for frame, place in zip(track.frames.tolist(), track.places.tolist(), strict=True):
                found[(clip.name, clip.frames[frame], place)] = number
    return found
