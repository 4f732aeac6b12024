"""Pictures and frames of a detection run taken into the project, with the boxes found on them kept as proposals."""

import tempfile
from pathlib import Path

from avocet.core.errors import InputError
from avocet.files import safe_name, write_bytes
from avocet.media.clips import frame_at
from avocet.media.pictures import encode_jpeg
from avocet.store.database import reading
from avocet.work.job_givens import FoundToCollect
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FoundCollected
from avocet.work.pictures.adding import Added, Arrival, take_picture
from avocet.work.progress import Stopped
from avocet.work.use.detections import get_detection, order_of
from avocet.work.use.found import LookedAt, found_by, pictures_with_boxes
from avocet.work.use.inputs import input_named
from avocet.work.use.proposals import keep_proposals, model_named


def do_collect(task: Task[FoundToCollect]) -> FoundCollected:
    """Take chosen pictures and frames into the project; what is there already is not taken twice."""
    folder, given = task.folder, task.given
    with reading(task.sessions)() as session:
        detection = get_detection(session, given.detection_id)
        found = found_by(folder, detection)
        limit = order_of(detection).overlap_limit
        model = model_named(detection.run_id, detection.ensemble_id)
    chosen = found.kept(given.minimum_score, limit)
    added, there, problems = 0, 0, []
    ids = []
    for done, place in enumerate(given.places):
        if task.reporter.should_stop():
            raise Stopped
        if not 0 <= place < len(found.looked):
            raise InputError(f"the run has no picture {place}")
        looked = found.looked[place]
        try:
            taken = _taken(task, looked)
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


def _taken(task: Task[FoundToCollect], looked: LookedAt) -> Added:
    with reading(task.sessions)() as session:
        detection = get_detection(session, task.given.detection_id)
        item = input_named(session, task.folder, detection, looked.name)
    source = f"Detection run {task.given.detection_id}"
    if looked.frame < 0:
        arrival = Arrival(item.path, looked.name, source=source)
        return take_picture(task.sessions, task.folder, detection.project_id, arrival)
    pixels = frame_at(item.path, looked.seconds, looked.name)
    task.folder.incoming.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=task.folder.incoming) as place:
        name = f"{safe_name(Path(looked.name).stem)}-{looked.frame:06d}.jpg"
        write_bytes(Path(place) / name, encode_jpeg(pixels, quality=95))
        arrival = Arrival(Path(place) / name, name, source=source)
        return take_picture(task.sessions, task.folder, detection.project_id, arrival)
