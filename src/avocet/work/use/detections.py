"""Use: a run's model on a clip or on pictures, as a record with its results."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session, joinedload

from avocet.core.errors import InputError
from avocet.files import move_file
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.pictures import SUFFIXES as PICTURE_SUFFIXES
from avocet.readable import readable
from avocet.store.folder import DataFolder
from avocet.store.tables import Detection, Picture, PictureState, Run
from avocet.work.clips.clips import get_clip
from avocet.work.cluster.asked import cluster_if
from avocet.work.job_givens import DetectionInputs
from avocet.work.job_kinds import DETECT
from avocet.work.jobs import create_job, give
from avocet.work.models.chosen import chosen_model
from avocet.work.pictures.listing import Filter, conditions, count_pictures
from avocet.work.problems import NotFound, by_number
from avocet.work.use.counting import Shape
from avocet.work.use.running.order import DetectionOrder

MOST_INPUTS = 100_000


@dataclass(frozen=True)
class Source:
    """What a detection run goes over, if no files come along.

    Attributes
    ----------
    clip_id : int, optional
    server_folder : Path, optional
        With all its subfolders; it was seen to lie in an allowed one.
    pictures : bool
        Those of the project, all or of one ``state``.
    state : PictureState, optional
    on_cluster : bool
        The machines of the server's cluster look, rather than this one alone.
    """

    clip_id: int | None = None
    server_folder: Path | None = None
    pictures: bool = False
    state: PictureState | None = None
    on_cluster: bool = False


def start_detection(
    session: Session,
    folder: DataFolder,
    run_id: int | None,
    source: Source,
    wished: Mapping[str, Any] | None = None,
    uploads: Sequence[tuple[Path, str]] = (),
    ensemble_id: int | None = None,
) -> Detection:
    """Record a detection that waits for the worker.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    run_id : int, optional
    source : Source
        Empty where files come along.
    wished : mapping
        Fields of a `DetectionOrder`; where there is no minimum score, the model's own is taken.
    uploads : sequence of (path, name)
        Files that were sent; they are moved to where the results will lie.
    ensemble_id : int, optional
        Instead of a run.

    Raises
    ------
    InputError
        If there is nothing to run on, or a value is out of range.
    """
    cluster_if(source.on_cluster)
    model = chosen_model(session, folder, run_id, ensemble_id)
    order = ordered(model.run, wished or {})
    _refuse_unknown_kinds([name for _, name in uploads])
    title, given = _described(session, model.project_id, source, uploads)
    job = create_job(session, model.project_id, DETECT, f"Run {model.name} on {title}")
    detection = Detection(
        project_id=model.project_id,
        run=model.run,
        ensemble=model.ensemble,
        minimum_scores=order.minimum_scores,
        job=job,
        source=title,
        minimum_score=order.minimum_score,
        overlap_limit=order.overlap_limit,
        order=order.model_dump(mode="json"),
    )
    session.add(detection)
    session.flush()
    place = folder.detection_input(model.project_id, detection.id)
    files = []
    for number, (path, name) in enumerate(uploads):
        # Stored under a number: the sender's name is only ever shown.
        stored = f"{number:06d}{Path(name).suffix.lower()}"
        move_file(path, place / stored)
        files.append((stored, name))
    give(job, DETECT, given.model_copy(update={"detection_id": detection.id, "files": files}))
    return detection


def ordered(run: Run | None, wished: Mapping[str, Any]) -> DetectionOrder:
    """An order with what the model itself knows best where nothing else is wished. Raises `InputError`.

    What an ensemble's models find is known once they are opened.
    """
    known = run.facts.get("classes", []) if run is not None else []
    named = [*(wished.get("only") or []), *(wished.get("minimum_scores") or {})]
    about: dict[str, Any] = {"classes": known or named}
    if run is not None:
        about |= {"minimum_score": run.minimum_score, "minimum_scores": run.minimum_scores}
        about["classes"] = known or [*named, *run.minimum_scores]
    return DetectionOrder.for_model(about, wished)


def get_detection(session: Session, detection_id: int) -> Detection:
    """The detection, or `NotFound`."""
    return by_number(session, Detection, detection_id, "detection run")


def order_of(detection: Detection) -> DetectionOrder:
    """What a detection run is to do; that of an earlier version from what it kept."""
    kept = detection.order or {
        "minimum_score": detection.minimum_score,
        "minimum_scores": detection.minimum_scores,
        "overlap_limit": detection.overlap_limit,
    }
    return DetectionOrder.model_validate(kept)


def shapes_of(detection: Detection) -> list[Shape]:
    """The lines and regions that a person counts a run's objects by."""
    return [Shape.model_validate(each) for each in detection.counting.get("shapes", [])]


def list_detections(session: Session, project_id: int) -> list[Detection]:
    """The project's detections, newest first."""
    loaded = [joinedload(each) for each in (Detection.job, Detection.run, Detection.ensemble)]
    query = (
        select(Detection)
        .options(*loaded)
        .where(Detection.project_id == project_id)
        .order_by(Detection.id.desc())
    )
    return list(session.scalars(query))


def result_file(folder: DataFolder, detection: Detection, name: str) -> Path:
    """A file of a detection's results. Raises `NotFound` for anything else."""
    root = folder.detection(detection.project_id, detection.id).resolve()
    path = (root / name).resolve()
    if not path.is_relative_to(root) or not path.is_file() or path.is_relative_to(root / "input"):
        raise NotFound(f"detection run {detection.id} has no file {name!r}")
    return path


def _described(
    session: Session, project_id: int, source: Source, uploads: Sequence[tuple[Path, str]]
) -> tuple[str, DetectionInputs]:
    """What a detection run goes over, in words and for the worker."""
    given = DetectionInputs(detection_id=0, on_cluster=source.on_cluster)
    if uploads:
        return (uploads[0][1] if len(uploads) == 1 else f"{len(uploads)} files"), given
    if source.clip_id is not None:
        clip = get_clip(session, source.clip_id)
        if clip.project_id != project_id:
            raise NotFound(f"the project has no clip {clip.id}")
        return clip.name, given.model_copy(update={"clip_id": clip.id})
    if source.server_folder is not None:
        place = source.server_folder
        return readable(place.name or str(place)), given.model_copy(update={"server_folder": str(place)})
    if source.pictures:
        state = source.state
        wanted = Filter(state=state)
        count = count_pictures(session, project_id, wanted)
        if not count:
            raise InputError("the project has no such picture to run on")
        if count > MOST_INPUTS:
            raise InputError(f"a detection run goes over at most {MOST_INPUTS:,} pictures, not {count:,}")
        last = session.scalar(select(func.max(Picture.id)).where(*conditions(project_id, wanted)))
        kind = f"{state.value.replace('_', ' ')} pictures" if state else "pictures"
        more = {"pictures": True, "state": state, "last_picture_id": last}
        return f"{count} {kind}", given.model_copy(update=more)
    raise InputError("choose a clip or pictures to run on")


def _refuse_unknown_kinds(names: Sequence[str]) -> None:
    for name in names:
        if Path(name).suffix.lower() not in PICTURE_SUFFIXES | CLIP_SUFFIXES:
            raise InputError(f"{name} is neither a picture nor a clip that Avocet reads")
        if Path(name).is_absolute() or ".." in Path(name).parts:
            raise InputError(f"{name} is not a name that a file may have here")
