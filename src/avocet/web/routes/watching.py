"""Looks ahead at a run, looks into it while it trains, and studies."""

import numpy as np
from flask import Response, send_file
from flask_openapi3 import APIBlueprint, Tag

from avocet.store.tables import Study
from avocet.web.context import context, job_out, moment, reply
from avocet.web.schemas import train as schemas
from avocet.web.schemas.collect import JobStarted
from avocet.web.schemas.common import JobOut, ProjectPath
from avocet.work import following
from avocet.work import studies as work_studies
from avocet.work.anchor_views import anchor_effect
from avocet.work.jobs import create_job
from avocet.work.media import get_picture
from avocet.work.planning import plan_run
from avocet.work.problems import NotFound
from avocet.work.runs import chosen_settings, get_run, labels_to_learn, model_path

watching = APIBlueprint("watching", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="watching")])

LOOKS = {
    "anchors": ("cluster_anchors", "Cluster anchors"),
    "augmented": ("draw_augmented", "Draw augmented pictures"),
    "sizes": ("sum_up_sizes", "Measure the sizes"),
    "estimate": ("probe_run", "Estimate time and memory"),
}


@watching.post("/projects/<int:project_id>/looks/<look>", responses={202: JobStarted})
def look_ahead(path: schemas.LookPath, body: schemas.LookIn) -> Response:
    """Look ahead at a run: its outcome is in the job."""
    kind, title = LOOKS[path.look]
    with context().sessions.begin() as session:
        frozen, _ = labels_to_learn(session, context().folder, path.project_id, body.snapshot_id)
        settings = chosen_settings(
            plan_run(frozen, body.settings.side, body.settings.batch), body.settings.model_dump()
        )
        job = create_job(session, path.project_id, kind, title)
        job.arguments = {
            "project_id": path.project_id,
            "snapshot_id": body.snapshot_id,
            "settings": settings.as_record(),
            "side": settings.side,
            "classes": len(frozen.classes),
            "draw": body.draw,
            "job_id": job.id,
        }
    return _started(job_out(job))


@watching.get("/sheets/<int:job_id>/<int:number>")
def sheet(path: schemas.SheetPath) -> Response:
    """One augmented picture of a sheet."""
    file = context().folder.sheet(path.job_id) / f"{path.number}.jpg"
    if not file.is_file():
        raise NotFound(f"there is no picture {path.number} of sheet {path.job_id}; draw it again")
    return send_file(file, mimetype="image/jpeg", max_age=86_400)


@watching.post("/projects/<int:project_id>/anchors/effect", responses={200: schemas.EffectOut})
def effect(path: ProjectPath, body: schemas.EffectIn) -> Response:
    """How well anchors chosen by hand fit the training boxes."""
    with context().reading() as session:
        fit = anchor_effect(
            session, context().folder, path.project_id, body.side, body.anchors, body.snapshot_id
        )
    return reply(schemas.EffectOut.model_validate(fit))


@watching.get("/runs/<int:run_id>/watch", responses={200: schemas.WatchOut})
def watch(path: schemas.RunPath) -> Response:
    """A run's watch pictures with their truths, and the epochs that can be looked at."""
    with context().reading() as session:
        found = following.watch_of(session, context().folder, path.run_id)
    pictures = [
        schemas.WatchedPicture(
            picture_id=each.id,
            name=each.name,
            width=each.width,
            height=each.height,
            truths=[schemas.WatchedTruth(class_index=box[0], corners=box[1:5]) for box in each.boxes],
        )
        for each in found.pictures
    ]
    return reply(schemas.WatchOut(class_names=found.class_names, pictures=pictures, epochs=found.epochs))


@watching.get("/runs/<int:run_id>/watch/<int:epoch>", responses={200: schemas.WatchedEpoch})
def watched_epoch(path: schemas.WatchPath) -> Response:
    """What one epoch found on each watch picture."""
    with context().reading() as session:
        kept = following.watched_epoch(session, context().folder, path.run_id, path.epoch)
    pictures = [schemas.Predicted.model_validate(each) for each in kept]
    return reply(schemas.WatchedEpoch(epoch=path.epoch, pictures=pictures))


@watching.post("/runs/<int:run_id>/try", responses={202: JobStarted})
def try_model(path: schemas.RunPath, body: schemas.TryIn) -> Response:
    """Try the run's latest checkpoint on a picture, also while it trains: its outcome is in the job."""
    with context().sessions.begin() as session:
        run, picture = get_run(session, path.run_id), get_picture(session, body.picture_id)
        model_path(context().folder, run, "latest")
        arguments = {"run_id": run.id, "picture_id": picture.id}
        job = create_job(session, run.project_id, "try_model", f"Try {run.name}", arguments)
    return _started(job_out(job))


@watching.post("/projects/<int:project_id>/studies", responses={202: schemas.StudyOut})
def start_study(path: ProjectPath, body: schemas.StudyIn) -> Response:
    """Study how precision grows with the number of training pictures."""
    with context().sessions.begin() as session:
        study = work_studies.start_study(
            session,
            context().folder,
            path.project_id,
            body.settings.model_dump(),
            body.steps,
            body.seeds,
            body.snapshot_id,
        )
        job_id, kind, out = study.job.id, study.job.kind, _study_out(study)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@watching.get("/projects/<int:project_id>/studies", responses={200: schemas.StudyList})
def list_studies(path: ProjectPath) -> Response:
    """The project's studies, newest first."""
    with context().reading() as session:
        found = work_studies.list_studies(session, path.project_id)
        return reply(schemas.StudyList(studies=[_study_out(each) for each in found]))


def _study_out(study: Study) -> schemas.StudyOut:
    said = work_studies.verdict(study)
    shown = None
    if said is not None:
        pictures = np.linspace(max(1.0, 0.15 * said.pictures), 2 * said.pictures, 40)
        shown = schemas.StudyVerdict(
            pictures=said.pictures,
            words=said.words,
            now=said.curve.now,
            low=said.curve.low,
            middle=said.curve.middle,
            high=said.curve.high,
            curve=list(zip(pictures.tolist(), said.curve.at(pictures).tolist(), strict=True)),
        )
    return schemas.StudyOut(
        id=study.id,
        settings=study.settings,
        snapshot_hash=study.snapshot.content_hash,
        planned=len(study.plan),
        results=[schemas.StudyResult(**each) for each in study.results],
        verdict=shown,
        created_at=moment(study.created_at),
        job=job_out(study.job),
    )


def _started(job: JobOut) -> Response:
    context().enqueue(job.id, job.kind)
    return reply(JobStarted(job=job), 202)
