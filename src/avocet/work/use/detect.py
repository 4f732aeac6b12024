"""Detection over pictures and clips: annotated copies, all detections as JSON and CSV, a summary."""

import csv
import json
import time
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.detections import PictureDetections
from avocet.core.errors import InputError
from avocet.detector.model.finder import Finder
from avocet.files import replacing, write_bytes, write_text
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.clips import ClipWriter, clip_info, read_frames
from avocet.media.drawing import draw_boxes
from avocet.media.pictures import SUFFIXES as PICTURE_SUFFIXES
from avocet.media.pictures import encode_jpeg, read_picture
from avocet.readable import readable
from avocet.work.labels.classes import COLOURS
from avocet.work.progress import Reporter, Stopped
from avocet.work.use.detections import check_limits
from avocet.work.use.objects import WEAKER, FoundInClip, link_clip, objects_by_class, write_objects

BATCH = 8
JSON_NAME, CSV_NAME, ANNOTATED = "detections.json", "detections.csv", "annotated"


@dataclass(frozen=True)
class Input:
    """A picture or a clip to run detection on, and what to call it in the results."""

    path: Path
    name: str

    @property
    def is_clip(self) -> bool:
        return Path(self.name).suffix.lower() in CLIP_SUFFIXES


@dataclass
class _Results:
    predictor: Finder
    minimum_score: float
    overlap_limit: float
    by_class: Mapping[str, float] = field(default_factory=dict)
    pictures: list[dict[str, Any]] = field(default_factory=list)
    counts: Counter[str] = field(default_factory=Counter)
    problems: list[str] = field(default_factory=list)
    copies: list[str] = field(default_factory=list)
    objects: list[dict[str, Any]] = field(default_factory=list)
    taken: set[str] = field(default_factory=set)

    def least_scores(self) -> NDArray[np.float64]:
        """The minimum score of each class."""
        return np.array([self.by_class.get(name, self.minimum_score) for name in self.predictor.classes])

    @property
    def weakest(self) -> float:
        """Share of the minimum scores down to which boxes of a clip are looked at.

        Where several models' boxes are combined, weaker ones would move those that are told.
        """
        return 1.0 if self.predictor.about.get("method") == "fusion" else WEAKER

    def note(
        self, name: str, pixels: NDArray[np.uint8], found: PictureDetections, **more: Any
    ) -> dict[str, Any]:
        classes = self.predictor.classes
        rows = [
            {
                "class": classes[label],
                "score": round(float(score), 4),
                "box": [round(float(v), 2) for v in box],
            }
            for label, score, box in zip(found.classes, found.scores, found.boxes, strict=True)
        ]
        self.counts.update(row["class"] for row in rows)
        height, width = pixels.shape[:2]
        row = {"name": name, "width": width, "height": height} | more | {"detections": rows}
        self.pictures.append(row)
        return row

    def annotate(self, pixels: NDArray[np.uint8], found: PictureDetections) -> NDArray[np.uint8]:
        names = self.predictor.classes
        captions = [f"{names[c]} {score:.2f}" for c, score in zip(found.classes, found.scores, strict=True)]
        return draw_boxes(pixels, found.boxes, captions, [COLOURS[c % len(COLOURS)] for c in found.classes])

    def free_name(self, name: str, suffix: str) -> str:
        """A name for an annotated copy that no other copy has."""
        stem = Path(name).with_suffix("").as_posix()
        candidate, number = f"{stem}{suffix}", 2
        while candidate.lower() in self.taken:
            candidate, number = f"{stem}-{number}{suffix}", number + 1
        self.taken.add(candidate.lower())
        return candidate


def gather(paths: Sequence[Path]) -> list[Input]:
    """Pictures and clips named directly or lying in the folders named.

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
                if each.is_file() and each.suffix.lower() in PICTURE_SUFFIXES | CLIP_SUFFIXES
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
    return inputs


def detect(
    predictor: Finder,
    inputs: Sequence[Input],
    out: Path,
    minimum_score: float,
    overlap_limit: float,
    reporter: Reporter,
    by_class: Mapping[str, float] | None = None,
) -> dict[str, Any]:
    """Run a model over pictures and clips.

    Parameters
    ----------
    predictor : Finder
    inputs : sequence of Input
    out : Path
        Gets ``annotated/``, ``detections.json`` and ``detections.csv``; boxes in original pixels. With
        clips also ``objects.json`` and ``objects.csv``: every object once, with its first and last sight.
    minimum_score, overlap_limit : float
    reporter : Reporter
    by_class : mapping of str to float, optional
        Minimum scores of single classes.

    Returns
    -------
    dict
        Summary: pictures, detections by class, objects of clips by class, seconds, frames a second,
        problems.

    Raises
    ------
    InputError
        If a threshold is out of range, nothing could be read, or the disk is full.
    Stopped
        If a person asked to stop; what was found so far is written.
    """
    check_limits(minimum_score, overlap_limit)
    results = _Results(predictor, minimum_score, overlap_limit, by_class or {})
    progress = _Progress(reporter, inputs)
    started = time.monotonic()
    stopped = False
    try:
        stills = [each for each in inputs if not each.is_clip]
        for start in range(0, len(stills), BATCH):
            _detect_stills(results, stills[start : start + BATCH], out, progress)
        for each in inputs:
            if each.is_clip:
                _detect_clip(results, each, out, progress)
    except Stopped:
        stopped = True
    seconds = time.monotonic() - started
    if not results.pictures and results.problems and not stopped:
        raise InputError("; ".join(results.problems[:5]))
    summary = {
        "pictures": len(results.pictures),
        "detections": sum(results.counts.values()),
        "by_class": {name: results.counts[name] for name in predictor.classes},
        "objects": objects_by_class(results.objects, predictor.classes) if _has_clip(inputs) else None,
        "seconds": round(seconds, 2),
        "frames_per_second": round(len(results.pictures) / seconds, 2) if seconds else None,
        "problems": results.problems,
        "copies": results.copies,
    }
    _write_results(results, out, summary)
    if _has_clip(inputs):
        write_objects(results.objects, out)
    if stopped:
        raise Stopped
    return summary


def _has_clip(inputs: Sequence[Input]) -> bool:
    return any(each.is_clip for each in inputs)


class _Progress:
    """Counts pictures and frames together."""

    def __init__(self, reporter: Reporter, inputs: Sequence[Input]) -> None:
        self._reporter, self._done, self._started = reporter, 0, time.monotonic()
        self._total = sum(_expected(each) for each in inputs)

    def add(self, count: int) -> None:
        self._done += count
        speed = self._done / max(1e-6, time.monotonic() - self._started)
        total = max(self._total, self._done)
        self._reporter.progress(self._done, total, f"{self._done} of {total} frames, {speed:.1f} a second")
        if self._reporter.should_stop():
            raise Stopped


def _expected(item: Input) -> int:
    if not item.is_clip:
        return 1
    try:
        return clip_info(item.path, item.name).frames
    except InputError:
        return 1


def _detect_stills(results: _Results, items: Sequence[Input], out: Path, progress: _Progress) -> None:
    pictures, names = [], []
    for item in items:
        try:
            pictures.append(read_picture(item.path, item.name))
            names.append(item.name)
        except InputError as error:
            results.problems.append(str(error))
    for name, pixels, found in zip(names, pictures, _find(results, pictures), strict=True):
        copy = results.free_name(name, ".jpg")
        write_bytes(out / ANNOTATED / copy, encode_jpeg(results.annotate(pixels, found)))
        results.copies.append(copy)
        results.note(name, pixels, found, annotated=f"{ANNOTATED}/{copy}")
    progress.add(len(items))


def _detect_clip(results: _Results, item: Input, out: Path, progress: _Progress) -> None:
    copy = results.free_name(item.name, ".mp4")
    clip, least = FoundInClip(item.name), results.least_scores()
    try:
        rate = clip_info(item.path, item.name).rate
        stopped = False
        with replacing(out / ANNOTATED / copy) as temporary:
            writer: ClipWriter | None = None
            try:
                for numbers, pictures in _frame_batches(item):
                    if writer is None:
                        height, width = pictures[0].shape[:2]
                        writer = ClipWriter(temporary, width, height, rate)
                    for (number, seconds), pixels, found in zip(
                        numbers, pictures, _find(results, pictures, results.weakest), strict=True
                    ):
                        told = found.scores >= least[found.classes]
                        strong = PictureDetections(found.boxes[told], found.scores[told], found.classes[told])
                        writer.write(results.annotate(pixels, strong))
                        row = results.note(
                            item.name,
                            pixels,
                            strong,
                            frame=number,
                            seconds=round(seconds, 4),
                            annotated=f"{ANNOTATED}/{copy}",
                        )
                        clip.add(found, told, row)
                    progress.add(len(pictures))
            except Stopped:
                # What was annotated so far is worth keeping as a clip that plays.
                stopped = True
            finally:
                if writer is not None:
                    writer.close()
        results.copies.append(copy)
        results.objects += link_clip(clip, least, results.predictor.classes, len(results.objects) + 1)
        if stopped:
            raise Stopped
    except InputError as error:
        results.problems.append(str(error))


def _frame_batches(item: Input) -> Iterator[tuple[list[tuple[int, float]], list[NDArray[np.uint8]]]]:
    numbers: list[tuple[int, float]] = []
    pictures: list[NDArray[np.uint8]] = []
    for frame in read_frames(item.path, name=item.name):
        numbers.append((frame.number, frame.seconds))
        pictures.append(frame.pixels)
        if len(pictures) == BATCH:
            yield numbers, pictures
            numbers, pictures = [], []
    if pictures:
        yield numbers, pictures


def _find(
    results: _Results, pictures: Sequence[NDArray[np.uint8]], share: float = 1.0
) -> list[PictureDetections]:
    """What is found down to a share of the minimum scores."""
    least = share * results.least_scores()
    candidates = results.predictor.candidates(pictures, float(least.min())) if pictures else []
    return [each.after_suppression(least, results.overlap_limit) for each in candidates]


def _write_results(results: _Results, out: Path, summary: dict[str, Any]) -> None:
    document = {
        "model": results.predictor.about,
        "minimum_score": results.minimum_score,
        "minimum_scores": dict(results.by_class),
        "overlap_limit": results.overlap_limit,
        "box": "x1, y1, x2, y2 in pixels of the original picture",
        "summary": {key: value for key, value in summary.items() if key != "copies"},
        "pictures": results.pictures,
    }
    write_text(out / JSON_NAME, json.dumps(document, ensure_ascii=False, indent=1))
    with replacing(out / CSV_NAME) as temporary, temporary.open("w", newline="", encoding="utf-8") as opened:
        writer = csv.writer(opened)
        writer.writerow(["picture", "frame", "seconds", "class", "score", "x1", "y1", "x2", "y2", "object"])
        for picture in results.pictures:
            place = [picture["name"], picture.get("frame", ""), picture.get("seconds", "")]
            for row in picture["detections"]:
                writer.writerow([*place, row["class"], row["score"], *row["box"], row.get("object", "")])
