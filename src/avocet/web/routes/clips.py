"""Clips: their frames one by one, the objects that are labelled on them, and frames taken as pictures."""

from dataclasses import asdict

from flask import Response
from flask_openapi3 import Tag
from sqlalchemy.orm import Session

from avocet.media.pictures import encode_jpeg, no_larger
from avocet.store.clip_tables import ClipTrack, Standing
from avocet.store.tables import Clip
from avocet.web.browser_cache import kept_by_browser
from avocet.web.context import context, handed_over, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas import clips as schemas
from avocet.web.schemas.common import BinIn, BinQuery, JobStarted, Problem, ProjectPath
from avocet.web.schemas.use.proposals import ProposeIn, TimeOut
from avocet.web.uploads import sent_files
from avocet.work.clips import clips as work
from avocet.work.clips import tracks as work_tracks
from avocet.work.clips.carrying import start_carrying
from avocet.work.clips.labour import time_on_clip
from avocet.work.clips.proposing import start_proposing_tracks
from avocet.work.clips.sampling import pictures_of_clip
from avocet.work.job_givens import (
    BoxToCarry,
    ClipFrames,
    ClipToGather,
    ToCarry,
    TracksToPropose,
    TracksToTake,
    TracksToWrite,
)
from avocet.work.job_kinds import GATHER_TRACKS, PLAN_FRAMES, SAMPLE_CLIP, TAKE_TRACKS, WRITE_TRACKS
from avocet.work.pictures.staging import stage

clips = DescribedBlueprint("clips", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="clips")])


@clips.get("/projects/<int:project_id>/clips", responses={200: schemas.ClipList})
def list_clips(path: ProjectPath, query: BinQuery) -> Response:
    """The project's clips, or those in its bin, and what is labelled on them."""
    with context().reading() as session:
        counts = work_tracks.track_counts(session, path.project_id)
        rows = [
            schemas.ClipRow(
                **_out(clip).model_dump(),
                objects=counts.get(clip.id, {}).get(Standing.KEPT, 0),
                proposed=counts.get(clip.id, {}).get(Standing.PROPOSED, 0),
                pictures=len(pictures_of_clip(session, clip.id)),
            )
            for clip in work.list_clips(session, path.project_id, query.binned)
        ]
        return reply(schemas.ClipList(clips=rows))


@clips.get("/clips/<int:clip_id>", responses={200: schemas.ClipDetail})
def clip_detail(path: schemas.ClipPath) -> Response:
    """A clip and the time of each of its frames."""
    clip = _clip(path.clip_id)
    index = context().clips.index(clip)
    with context().reading() as session:
        pictures = len(pictures_of_clip(session, clip.id))
    return reply(
        schemas.ClipDetail(
            **_out(clip).model_dump(),
            project_id=clip.project_id,
            pictures=pictures,
            times=[round(each, 4) for each in index.seconds.tolist()],
        )
    )


@clips.put("/clips/<int:clip_id>/choice", responses={200: schemas.ClipOut})
def choose(path: schemas.ClipPath, body: schemas.ClipChoiceIn) -> Response:
    """Say how a clip is labelled and which of its frames are learnt from; nothing is taken or lost by it."""
    frames = len(context().clips.index(_clip(path.clip_id)))
    with context().sessions.begin() as session:
        choice = work.ClipChoice(**body.model_dump())
        return reply(_out(work.choose(session, path.clip_id, frames, choice)))


@clips.put("/clips/<int:clip_id>/binned", responses={200: schemas.ClipOut})
def bin_clip(path: schemas.ClipPath, body: BinIn) -> Response:
    """Move a clip to the bin, or restore it. Its pictures stay in the project."""
    with context().sessions.begin() as session:
        return reply(_out(work.bin_clip(session, path.clip_id, body.binned)))


@clips.post("/clips/<int:clip_id>/gathered", responses={202: JobStarted})
def gather(path: schemas.ClipPath) -> Response:
    """Make objects of the boxes that were drawn on pictures of a clip, in the background."""
    clip = _clip(path.clip_id)
    title = f"Boxes on pictures of {clip.name} as objects"
    return start_job(clip.project_id, GATHER_TRACKS, title, ClipToGather(clip_id=clip.id))


@clips.get("/clips/<int:clip_id>/frames/<int:number>")
def clip_frame(path: schemas.FramePath, query: schemas.FrameQuery) -> Response:
    """One frame, as a JPEG to look at; pictures taken from a clip are exact."""
    clip = _clip(path.clip_id)
    pixels = context().clips.reader(clip).frame(path.number)
    if query.width is None:
        content = encode_jpeg(pixels)
    else:
        longest = query.width * max(pixels.shape[:2]) / pixels.shape[1]
        content = encode_jpeg(no_larger(pixels, round(longest)), quality=85)
    return kept_by_browser(Response(content, mimetype="image/jpeg"))


@clips.get("/clips/<int:clip_id>/tracks", responses={200: schemas.TrackList})
def list_tracks(path: schemas.ClipPath) -> Response:
    """The objects of a clip: labelled, proposed and refused ones."""
    with context().reading() as session:
        clip = work.get_clip(session, path.clip_id)
        return _tracks(session, clip, work_tracks.tracks_of_clip(session, clip.id))


@clips.post("/clips/<int:clip_id>/tracks", responses={200: schemas.TrackList, 409: Problem})
def save_tracks(path: schemas.ClipPath, body: schemas.TracksIn) -> Response:
    """Save changes of some objects, all or none. A stale revision gets 409 with all that is there now."""
    frames = len(context().clips.index(_clip(path.clip_id)))
    changes = [
        work_tracks.TrackChange(
            each.number, each.revision, _labels(each.track) if each.track is not None else None
        )
        for each in body.changes
    ]
    with context().sessions.begin() as session:
        clip = work.get_clip(session, path.clip_id)
        saved = work_tracks.save_tracks(session, clip, frames, changes, body.worked)
        return _tracks(session, clip, saved)


@clips.post("/clips/<int:clip_id>/carried", responses={202: JobStarted})
def carry(path: schemas.ClipPath, body: schemas.CarryIn) -> Response:
    """Follow boxes through the next frames; the job's outcome says where they are. Nothing is saved by it."""
    boxes = [BoxToCarry.model_validate(each.model_dump()) for each in body.boxes]
    given = ToCarry(
        clip_id=path.clip_id,
        frame=body.frame,
        to=body.to,
        back=body.back,
        least_iou=body.least_iou,
        boxes=boxes,
    )
    with context().sessions.begin() as session:
        job = start_carrying(session, given)
    return handed_over(job)


@clips.post("/clips/<int:clip_id>/proposed", responses={202: JobStarted})
def propose_tracks(path: schemas.ClipPath, body: ProposeIn) -> Response:
    """Let a model propose the objects of a clip."""
    given = TracksToPropose(
        clip_id=path.clip_id,
        run_id=body.run_id,
        ensemble_id=body.ensemble_id,
        minimum_score=body.minimum_score,
        class_map=body.class_map,
    )
    with context().sessions.begin() as session:
        job = start_proposing_tracks(session, context().folder, given)
    return handed_over(job)


@clips.post("/clips/<int:clip_id>/exports", responses={202: JobStarted})
def write_tracks(path: schemas.ClipPath, body: schemas.WriteTracksIn) -> Response:
    """Write the objects of a clip in a format; `/jobs/{job_id}/file` has the file."""
    clip = _clip(path.clip_id)
    given = TracksToWrite(clip_id=clip.id, format=body.format, every=body.every)
    return start_job(clip.project_id, WRITE_TRACKS, f"Export {clip.name}", given)


@clips.post("/clips/<int:clip_id>/taken", responses={202: JobStarted})
def take_tracks(path: schemas.ClipPath, query: schemas.TakeTracksQuery) -> Response:
    """Add the objects of annotation files (multipart field `files`) that have track numbers to a clip.

    Where the boxes of a COCO file look like corners, the outcome asks for that, and nothing is taken until it is
    sent again with the answer.
    """
    clip = _clip(path.clip_id)
    files = sent_files()
    token = stage(context().folder, [(file.path, file.name) for file in files])
    given = TracksToTake(clip_id=clip.id, token=token, corners=query.corners)
    return start_job(clip.project_id, TAKE_TRACKS, f"Take objects of {clip.name} from {files[0].name}", given)


@clips.post("/clips/<int:clip_id>/frames", responses={202: JobStarted})
def sample_clip(path: schemas.ClipPath, body: schemas.SampleIn) -> Response:
    """Take frames from a clip into the project as pictures, in the background."""
    clip = _clip(path.clip_id)
    given = ClipFrames(clip_id=clip.id, **body.model_dump())
    return start_job(clip.project_id, SAMPLE_CLIP, f"Take frames from {clip.name}", given)


@clips.post("/clips/<int:clip_id>/plans", responses={202: JobStarted})
def plan_frames(path: schemas.ClipPath, body: schemas.SampleIn) -> Response:
    """Which frames would be taken; the job's outcome tells, and nothing is taken."""
    clip = _clip(path.clip_id)
    given = ClipFrames(clip_id=clip.id, **body.model_dump())
    return start_job(clip.project_id, PLAN_FRAMES, f"Choose frames of {clip.name}", given)


def _out(clip: Clip) -> schemas.ClipOut:
    return schemas.ClipOut(
        id=clip.id,
        name=clip.name,
        width=clip.width,
        height=clip.height,
        rate=clip.rate,
        seconds=clip.seconds,
        labelled_as=clip.labelled_as,
        first=clip.first,
        last=clip.last,
        per_second=clip.per_second,
        differing=clip.differing,
        binned=clip.binned_at is not None,
    )


def _clip(clip_id: int) -> Clip:
    with context().reading() as session:
        return work.get_clip(session, clip_id)


def _labels(track: schemas.TrackIn) -> work_tracks.TrackLabels:
    return work_tracks.TrackLabels(
        track.class_id,
        [(first, last) for first, last in track.spans],
        [work_tracks.SetBox(each.frame, each.corners, each.held, each.origin) for each in track.sets],
        [(each.frame, each.values) for each in track.attributes],
        list(track.unsure),
        track.model,
        track.standing,
        track.uid,
    )


def _tracks(session: Session, clip: Clip, rows: list[ClipTrack]) -> Response:
    found = [schemas.TrackOut.model_validate(work_tracks.track_record(each)) for each in rows]
    saved, timed = time_on_clip(session, clip)
    time = TimeOut.model_validate(asdict(saved)) if saved else None
    return reply(schemas.TrackList(tracks=found, time=time, timed=timed))
