"""Live work as records: made, stopped, set going again, moved to the bin."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from avocet.core.errors import InputError
from avocet.media.cameras.live import THIS_COMPUTER, check_camera
from avocet.store.address_tables import Live
from avocet.store.folder import DataFolder
from avocet.store.tables import Job, JobState, now
from avocet.work.job_givens import ForLive
from avocet.work.job_kinds import DETECT, EVALUATE, GO_LIVE, TRAIN
from avocet.work.jobs import again, create_job, give, request_stop
from avocet.work.models.chosen import chosen_model
from avocet.work.problems import by_number
from avocet.work.use.detections import ordered

MOST_AT_ONCE = 8
"""Each keeps a thread and a model."""


def start_live(
    session: Session,
    folder: DataFolder,
    run_id: int | None,
    ensemble_id: int | None,
    name: str,
    camera: str | None,
    watched: Path | None,
    out: Path | None,
    moves: bool,
    wished: Mapping[str, Any],
) -> Live:
    """Record live work that waits for its worker.

    Parameters
    ----------
    session : Session
    folder : DataFolder
    run_id, ensemble_id : int, optional
    name : str
    camera : str, optional
        Its address, or `THIS_COMPUTER` for that of whoever looks at the page; or
    watched : Path, optional
        a folder whose pictures are looked at as they appear. It was seen to lie in an allowed one.
    out : Path, optional
        Where a folder's results go; a place in the data folder by default.
    moves : bool
        Pictures are moved away once they were looked at.
    wished : mapping
        Fields of a `DetectionOrder`.

    Raises
    ------
    InputError
        If the source is none, the output folder is the watched one, or too much goes on already.
    """
    model = chosen_model(session, folder, run_id, ensemble_id)
    if (camera is None) == (watched is None):
        raise InputError("name a camera or a folder to watch")
    pushed = camera == THIS_COMPUTER
    source = str(watched) if camera is None else camera if pushed else check_camera(camera)
    if watched is not None and out is not None and out.resolve() == watched.resolve():
        raise InputError(f"results cannot go into {watched.name}, the folder that is watched; name another")
    going = session.scalars(select(Live).join(Live.job).where(Live.binned_at.is_(None))).all()
    if sum(each.job.state in (JobState.RUNNING, JobState.WAITING) for each in going) >= MOST_AT_ONCE:
        raise InputError(f"{MOST_AT_ONCE} cameras and folders are live already; stop one first")
    order = ordered(model.run, wished)
    called = name.strip() or (
        "Camera of this computer"
        if pushed
        else source
        if camera is not None
        else str(watched.name if watched else "")
    )
    job = create_job(session, model.project_id, GO_LIVE, f"Live: {called}")
    live = Live(
        project_id=model.project_id,
        run=model.run,
        ensemble=model.ensemble,
        job=job,
        name=called[:100],
        kind="camera" if camera is not None else "folder",
        source=source,
        out=str(out) if out is not None else "",
        moves=moves,
        order=order.model_dump(mode="json"),
    )
    session.add(live)
    session.flush()
    if watched is not None and out is None:
        live.out = str(folder.live(model.project_id, live.id) / "results")
    give(job, GO_LIVE, ForLive(live_id=live.id))
    return live


def get_live(session: Session, live_id: int) -> Live:
    """The live work, or `NotFound`."""
    return by_number(session, Live, live_id, "live work")


def list_live(session: Session, project_id: int) -> list[Live]:
    """The project's live work, oldest first; what is in the bin is left out."""
    loaded = [joinedload(each) for each in (Live.job, Live.run, Live.ensemble)]
    query = select(Live).options(*loaded).where(Live.project_id == project_id, Live.binned_at.is_(None))
    return list(session.scalars(query.order_by(Live.id)))


def what_goes_on(session: Session) -> str:
    """What works on this machine at the same time, in words."""
    running = select(Job.kind).where(Job.state == JobState.RUNNING)
    kinds = list(session.scalars(running))
    live = kinds.count(GO_LIVE.key)
    heavy = [
        name
        for name, kind in (("a training", TRAIN), ("a measurement", EVALUATE), ("a detection run", DETECT))
        if kind.key in kinds
    ]
    if not live:
        return ""
    told = f"{live} live"
    if heavy:
        told += f" beside {' and '.join(heavy)}, which take the cores first: live pictures may come slower"
    return told


def stop_live(session: Session, live_id: int) -> Live:
    """Ask it to stop."""
    live = get_live(session, live_id)
    request_stop(session, live.job_id)
    return live


def go_on(session: Session, live_id: int) -> Live:
    """Set stopped live work going again."""
    live = get_live(session, live_id)
    again(session, live.job_id)
    return live


def bin_live(session: Session, live_id: int, binned: bool) -> Live:
    """Stop it and move it to the bin, or restore it, stopped."""
    live = get_live(session, live_id)
    if binned:
        request_stop(session, live.job_id)
    live.binned_at = now() if binned else None
    return live
