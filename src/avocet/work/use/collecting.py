"""Pictures and frames of a detection run taken into the project, with the boxes found on them kept as proposals."""

import tempfile
from collections import deque
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.files import safe_name, write_bytes
from avocet.media.clips import frames_at
from avocet.media.pictures import encode_jpeg
from avocet.store.database import reading
from avocet.work.job_givens import FoundToCollect
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FoundCollected
from avocet.work.pictures.adding import Added, Arrival, take_picture
from avocet.work.progress import Stopped
from avocet.work.use.detections import get_detection
from avocet.work.use.found import Found, LookedAt, pictures_with_boxes
from avocet.work.use.inputs import input_named
from avocet.work.use.proposals import keep_proposals, model_named
from avocet.work.use.results import found_by


def do_collect(task: Task[FoundToCollect]) -> FoundCollected:
    """Take chosen pictures and frames into the project, with the boxes that the page shows on them; what is there already
    is not taken twice."""
    folder, given = task.folder, task.given
    with reading(task.sessions)() as session:
        detection = get_detection(session, given.detection_id)
        found = found_by(folder, detection)
        model = model_named(detection.run_id, detection.ensemble_id)
    chosen = found.kept(given.minimum_score, given.overlap_limit, given.only)
    added, there, problems = 0, 0, []
    ids = []
    frames = _Frames(found, given.places)
    for done, place in enumerate(given.places):
        if task.reporter.should_stop():
            raise Stopped
        if not 0 <= place < len(found.looked):
            raise InputError(f"the run has no picture {place}")
        try:
            taken = _taken(task, frames, found.looked[place])
        except InputError as error:
            problems.append(str(error))
            continue
        added, there = added + taken.fresh, there + (not taken.fresh)
        ids.append(taken.picture.id)
        (shown,) = pictures_with_boxes(found, chosen, [place])
        boxes = [
            {"class": found.classes[kind], "score": score, "box": box}
            for box, score, kind in zip(shown["boxes"], shown["scores"], shown["kinds"], strict=True)
        ]
        with task.sessions.begin() as session:
            keep_proposals(session, taken.picture.id, boxes, model, given.detection_id)
        task.reporter.progress(done + 1, len(given.places), f"{done + 1} of {len(given.places)}")
    if problems and not ids:
        raise InputError("; ".join(problems[:5]))
    return FoundCollected(added=added, already_there=there, refused=len(problems), picture_ids=ids)


class _Frames:
    """Frames of clips, each asked for in its turn: a clip is gone through once, not sought anew for each."""

    def __init__(self, found: Found, places: Sequence[int]) -> None:
        self._to_come: dict[str, deque[float]] = {}
        for looked in (found.looked[place] for place in places if 0 <= place < len(found.looked)):
            self._to_come.setdefault(looked.name, deque()).append(looked.seconds)
        self._coming: dict[str, Iterator[NDArray[np.uint8]]] = {}

    def next(self, path: Path, looked: LookedAt) -> NDArray[np.uint8]:
        """Raises `InputError` where the clip cannot be read; the next frame is sought then."""
        moments = self._to_come[looked.name]
        coming = self._coming.pop(looked.name, None) or frames_at(path, list(moments), looked.name)
        moments.popleft()
        pixels = next(coming)
        self._coming[looked.name] = coming
        return pixels


def _taken(task: Task[FoundToCollect], frames: _Frames, looked: LookedAt) -> Added:
    with reading(task.sessions)() as session:
        detection = get_detection(session, task.given.detection_id)
        item = input_named(session, task.folder, detection, looked.name)
    source = f"Detection run {task.given.detection_id}"
    if looked.frame < 0:
        arrival = Arrival(item.path, looked.name, source=source)
        return take_picture(task.sessions, task.folder, detection.project_id, arrival)
    pixels = frames.next(item.path, looked)
    task.folder.incoming.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=task.folder.incoming) as place:
        name = f"{safe_name(Path(looked.name).stem)}-{looked.frame:06d}.jpg"
        write_bytes(Path(place) / name, encode_jpeg(pixels, quality=95))
        arrival = Arrival(Path(place) / name, name, source=source)
        return take_picture(task.sessions, task.folder, detection.project_id, arrival)
