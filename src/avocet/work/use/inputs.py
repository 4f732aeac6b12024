"""What a detection run goes over, as files."""

from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.folder import DataFolder
from avocet.store.tables import Detection, Picture
from avocet.work.clips.clips import get_clip
from avocet.work.job_givens import DetectionInputs
from avocet.work.pictures.files import picture_path
from avocet.work.pictures.listing import Filter, conditions
from avocet.work.problems import NotFound
from avocet.work.use.running.course import Input
from avocet.work.use.running.detect import gather
from avocet.work.use.running.known import known_inputs, read_known


def inputs_of(session: Session, folder: DataFolder, detection: Detection) -> list[Input]:
    """All inputs of a run.

    Raises
    ------
    NotFound, InputError
        If a clip or a folder is gone.
    """
    given = DetectionInputs.model_validate(detection.job.arguments)
    if given.clip_id is not None:
        clip = get_clip(session, given.clip_id)
        return [Input(folder.clip(clip.project_id, clip.content_hash, clip.suffix), clip.name)]
    if given.server_folder is not None:
        return gather([Path(given.server_folder)])
    if given.pictures:
        wanted = conditions(detection.project_id, Filter(state=given.state))
        query = select(Picture).where(*wanted, Picture.id <= given.last_picture_id).order_by(Picture.id)
        return [_as_input(folder, each) for each in session.scalars(query)]
    place = folder.detection_input(detection.project_id, detection.id)
    return [Input(place / stored, name) for stored, name in given.files]


def _as_input(folder: DataFolder, picture: Picture) -> Input:
    """A picture whose file is gone is one that cannot be read: it is told of and the others are looked at."""
    try:
        return Input(picture_path(folder, picture), picture.name, picture.white)
    except (NotFound, InputError):
        return Input(folder.root / "missing" / picture.content_hash, picture.name)


def input_named(session: Session, folder: DataFolder, detection: Detection, name: str) -> Input:
    """The input of a name. Raises `NotFound` where it is gone."""
    given = DetectionInputs.model_validate(detection.job.arguments)
    if given.pictures:
        query = select(Picture).where(Picture.project_id == detection.project_id, Picture.name == name)
        picture = session.scalars(query.limit(1)).first()
        if picture is not None:
            return Input(picture_path(folder, picture), name)
    out = folder.detection(detection.project_id, detection.id)
    for each in read_known(out) or known_inputs(inputs_of(session, folder, detection)):
        if each.name == name and each.path.is_file():
            return each
    raise NotFound(f"{name} is not there any more")
