"""Using a run's model, as the worker does it."""

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, sessionmaker

from avocet.store.folder import DataFolder
from avocet.store.tables import Detection, Picture
from avocet.work.detecting import Input, detect
from avocet.work.detections import get_detection
from avocet.work.media import get_clip, picture_path
from avocet.work.models import bundles_of
from avocet.work.opening import open_model
from avocet.work.progress import Reporter


def run_detection(
    sessions: sessionmaker[Session],
    folder: DataFolder,
    detection_id: int,
    arguments: dict[str, Any],
    reporter: Reporter,
) -> dict[str, Any]:
    """Run the model and keep the summary."""
    with sessions() as session:
        detection = get_detection(session, detection_id)
        bundles = bundles_of(session, folder, detection.run, detection.ensemble)
        inputs = _inputs(session, folder, detection, arguments)
    out = folder.detection(detection.project_id, detection_id)
    summary = detect(
        open_model(bundles),
        inputs,
        out,
        detection.minimum_score,
        detection.overlap_limit,
        reporter,
        detection.minimum_scores,
    )
    with sessions.begin() as session:
        get_detection(session, detection_id).summary = summary
    return {"detections": summary["detections"], "pictures": summary["pictures"]}


def _inputs(
    session: Session, folder: DataFolder, detection: Detection, arguments: dict[str, Any]
) -> list[Input]:
    if arguments.get("clip_id") is not None:
        clip = get_clip(session, arguments["clip_id"])
        return [Input(folder.clip(clip.project_id, clip.content_hash, clip.suffix), clip.name)]
    if arguments.get("picture_ids"):
        wanted = select(Picture).where(Picture.project_id == detection.project_id).order_by(Picture.id)
        ids = set(arguments["picture_ids"])
        return [
            Input(picture_path(folder, picture), picture.name)
            for picture in session.scalars(wanted)
            if picture.id in ids
        ]
    place = folder.detection_input(detection.project_id, detection.id)
    return [Input(place / stored, name) for stored, name in arguments["files"]]
