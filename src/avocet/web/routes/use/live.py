"""Live work: cameras and watched folders, what they show now, and their recordings."""

import time
from typing import Any

from flask import Response, request, send_file
from flask_openapi3 import Tag
from sqlalchemy.orm import Session

from avocet.media.cameras.live import THIS_COMPUTER
from avocet.media.cameras.pushed import LARGEST_PUSHED, push_frame
from avocet.store.address_tables import Live
from avocet.web.context import context, job_out, reply
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas.common import BinIn, ProjectPath
from avocet.web.schemas.use import live as schemas
from avocet.work.live import live as work
from avocet.work.live.recording import recordings
from avocet.work.live.showing import shown_now, wish
from avocet.work.pictures.intake import allowed
from avocet.work.problems import NotFound
from avocet.work.project.projects import get_project

NOTHING_YET: dict[str, Any] = {
    "number": 0, "state": "starting", "message": "", "classes": [], "frames_per_second": 0.0, "last_minute": {},
    "reconnects": 0, "recording": None, "engine": "", "jpeg": None,
}  # fmt: skip

live = DescribedBlueprint("live", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="live")])


def _out(each: Live) -> schemas.LiveOut:
    model = each.run or each.ensemble
    folder = context().folder
    return schemas.LiveOut(
        id=each.id,
        name=each.name,
        kind="camera" if each.kind == "camera" else "folder",
        source=each.source,
        out=folder.without_place(each.out),
        moves=each.moves,
        model=model.name if model is not None else "",
        minimum_score=each.order.get("minimum_score", 0.0),
        recordings=recordings(folder.live(each.project_id, each.id) / "recordings"),
        job=job_out(each.job),
    )


def _handed(session: Session, each: Live) -> tuple[schemas.LiveOut, int, str]:
    session.flush()
    return _out(each), each.job.id, each.job.kind


@live.get("/projects/<int:project_id>/live", responses={200: schemas.LiveList})
def list_live(path: ProjectPath) -> Response:
    """The project's cameras and watched folders, and what goes on beside them."""
    with context().reading() as session:
        get_project(session, path.project_id)
        found = [_out(each) for each in work.list_live(session, path.project_id)]
        return reply(schemas.LiveList(live=found, beside=work.what_goes_on(session)))


@live.post("/projects/<int:project_id>/live", responses={202: schemas.LiveOut})
def start_live(path: ProjectPath, body: schemas.LiveIn) -> Response:
    """Look at a camera, or at what appears in a folder, until it is stopped."""
    roots = context().roots
    watched = allowed(roots, body.watched) if body.watched is not None else None
    out = allowed(roots, body.out) if body.out is not None else None
    wished = body.model_dump(include={"minimum_score", "overlap_limit", "only", "copies", "white"})
    with context().sessions.begin() as session:
        get_project(session, path.project_id)
        made = work.start_live(
            session, context().folder, body.run_id, body.ensemble_id, body.name, body.camera, watched, out,
            body.moves, wished,
        )  # fmt: skip
        told, job_id, kind = _handed(session, made)
    context().enqueue(job_id, kind)
    return reply(told, 202)


@live.get("/live/<int:live_id>", responses={200: schemas.LiveOut})
def get_live(path: schemas.LivePath) -> Response:
    """One camera or watched folder."""
    with context().reading() as session:
        return reply(_out(work.get_live(session, path.live_id)))


@live.get("/live/<int:live_id>/now", responses={200: schemas.LiveNow})
def now(path: schemas.LivePath, query: schemas.NowQuery) -> Response:
    """What is shown now, with its picture where that is newer."""
    with context().reading() as session:
        found = work.get_live(session, path.live_id)
        said = shown_now(context().folder.live(found.project_id, found.id))
    if said is None:
        said = NOTHING_YET | {"written": time.time()}
    moment = time.time()
    newer = said["number"] != query.after
    folder = context().folder
    return reply(
        schemas.LiveNow(
            number=said["number"],
            state=said["state"],
            message=folder.without_place(said["message"]),
            classes=said["classes"],
            frames_per_second=said["frames_per_second"],
            last_minute=said["last_minute"],
            reconnects=said["reconnects"],
            recording=said["recording"],
            engine=said["engine"],
            age=moment - said["captured"] if said.get("captured") else None,
            written_ago=moment - said["written"],
            width=said.get("width"),
            height=said.get("height"),
            boxes=said.get("boxes", []),
            scores=said.get("scores", []),
            kinds=said.get("kinds", []),
            objects=said.get("objects", []),
            jpeg=said["jpeg"] if newer else None,
            done=said.get("done", 0),
            waiting=said.get("waiting", 0),
            latest=said.get("latest", []),
            problems=[folder.without_place(each) for each in said.get("problems", [])],
        )
    )


@live.post("/live/<int:live_id>/stop", responses={202: schemas.LiveOut})
def stop(path: schemas.LivePath) -> Response:
    """Stop it; it can go on later."""
    with context().sessions.begin() as session:
        return reply(_out(work.stop_live(session, path.live_id)), 202)


@live.post("/live/<int:live_id>/go-on", responses={202: schemas.LiveOut})
def go_on(path: schemas.LivePath) -> Response:
    """Let it go on."""
    with context().sessions.begin() as session:
        told, job_id, kind = _handed(session, work.go_on(session, path.live_id))
    context().enqueue(job_id, kind)
    return reply(told, 202)


@live.post("/live/<int:live_id>/bin", responses={200: schemas.LiveOut})
def bin_live(path: schemas.LivePath, body: BinIn) -> Response:
    """Stop it and move it to the bin, or restore it, stopped."""
    with context().sessions.begin() as session:
        return reply(_out(work.bin_live(session, path.live_id, body.binned)))


@live.post("/live/<int:live_id>/frame", responses={204: None})
def push(path: schemas.LivePath) -> Response:
    """A frame of the camera of the computer that the page is open on: a JPEG as the body."""
    with context().reading() as session:
        found = work.get_live(session, path.live_id)
    if found.source != THIS_COMPUTER:
        raise NotFound(f"{found.name} takes no frames from a page")
    # One byte more than there may be tells that it is too much.
    content = request.stream.read(LARGEST_PUSHED + 1)
    push_frame(context().folder.live(found.project_id, found.id), content)
    return Response(status=204)


@live.post("/live/<int:live_id>/recording", responses={200: schemas.LiveOut})
def record(path: schemas.LivePath, body: schemas.RecordingIn) -> Response:
    """Begin or end a recording of a camera."""
    with context().reading() as session:
        found = work.get_live(session, path.live_id)
        if found.kind != "camera":
            raise NotFound(f"{found.name} is no camera")
        wish(context().folder.live(found.project_id, found.id), {"recording": body.on})
        return reply(_out(found))


@live.get("/live/<int:live_id>/recordings/<name>", doc_ui=False)
def recording(path: schemas.LivePath) -> Response:
    """A recording: the clip, or what was found on it as JSON Lines."""
    name = str((request.view_args or {})["name"])
    with context().reading() as session:
        found = work.get_live(session, path.live_id)
    place = context().folder.live(found.project_id, found.id) / "recordings"
    if f"{name.rsplit('.', 1)[0]}.mp4" not in recordings(place) or not (place / name).is_file():
        raise NotFound(f"{found.name} has no recording {name!r}")
    return send_file(place / name, conditional=True, as_attachment="download" in request.args)
