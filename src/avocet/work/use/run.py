"""Using a run's model, as the worker does it."""

import shutil

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Detection, Picture
from avocet.work.job_kinds import DetectionInputs, Task
from avocet.work.job_outcomes import Detected
from avocet.work.models.bundles import bundles_of
from avocet.work.models.opening import open_model
from avocet.work.pictures.clips import get_clip
from avocet.work.pictures.files import picture_path
from avocet.work.pictures.listing import Filter, conditions
from avocet.work.use.detect import ANNOTATED, Input, detect
from avocet.work.use.detections import get_detection


def do_detection(task: Task[DetectionInputs]) -> Detected:
    """Run the model and keep the summary."""
    folder, given = task.folder, task.given
    with reading(task.sessions)() as session:
        detection = get_detection(session, given.detection_id)
        bundles = bundles_of(session, folder, detection.run, detection.ensemble)
        inputs = _inputs(session, folder, detection, given)
    out = folder.detection(detection.project_id, detection.id)
    # What an attempt that was broken off has left is made anew.
    shutil.rmtree(out / ANNOTATED, ignore_errors=True)
    summary = detect(
        open_model(bundles),
        inputs,
        out,
        detection.minimum_score,
        detection.overlap_limit,
        task.reporter,
        detection.minimum_scores,
    )
    with task.sessions.begin() as session:
        get_detection(session, given.detection_id).summary = summary
    return Detected(boxes=summary["detections"], pictures=summary["pictures"])


def _inputs(
    session: Session, folder: DataFolder, detection: Detection, given: DetectionInputs
) -> list[Input]:
    if given.clip_id is not None:
        clip = get_clip(session, given.clip_id)
        return [Input(folder.clip(clip.project_id, clip.content_hash, clip.suffix), clip.name)]
    if given.pictures:
        wanted = conditions(detection.project_id, Filter(state=given.state))
        query = select(Picture).where(*wanted, Picture.id <= given.last_picture_id).order_by(Picture.id)
        return [Input(picture_path(folder, each), each.name) for each in session.scalars(query)]
    place = folder.detection_input(detection.project_id, detection.id)
    return [Input(place / stored, name) for stored, name in given.files]
