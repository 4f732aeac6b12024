"""Runs: planning, looks ahead, starting, following, comparing, studies."""

from typing import Any

import numpy as np
from flask import Response, send_file
from flask_openapi3 import Tag

from avocet.files import safe_name
from avocet.store.folder import DataFolder
from avocet.store.tables import Run, Study
from avocet.web.browser_cache import kept_by_browser
from avocet.web.context import context, job_out, moment, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas import train as schemas
from avocet.web.schemas.common import BinIn, BinQuery, JobStarted, ProjectPath
from avocet.work.job_givens import ForRun, LookAhead, RunAndPicture, RunOrder, StudyOrder
from avocet.work.job_kinds import (
    CLUSTER_ANCHORS,
    DRAW_AUGMENTED,
    PROBE_RUN,
    START_RUN,
    START_STUDY,
    SUM_UP_SIZES,
    TRY_MODEL,
    WRITE_ONNX,
    JobKind,
)
from avocet.work.pictures.files import content_hash, get_picture
from avocet.work.problems import NotFound
from avocet.work.train import run_files, run_table
from avocet.work.train import runs as work
from avocet.work.train import studies as work_studies
from avocet.work.train import watch as following
from avocet.work.train.ahead.anchors import anchor_effect
from avocet.work.train.ahead.plan import plan_run
from avocet.work.train.step_losses import step_curve
from avocet.work.train.watch import hints_of

train = DescribedBlueprint("train", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="train")])


def run_out(folder: DataFolder, run: Run) -> schemas.RunOut:
    """A run as the page sees it."""
    try:
        work.model_path(folder, run)
        has_model = True
    except NotFound:
        has_model = False
    return schemas.RunOut(
        id=run.id,
        name=run.name,
        note=run.note,
        binned=run.binned_at is not None,
        settings=run_table.flat_settings(run),
        facts={name: fact for name, fact in run.facts.items() if name != work.EIGHT_BITS},
        eight_bits=run.facts.get(work.EIGHT_BITS),
        snapshot_id=run.snapshot_id,
        snapshot_hash=run.snapshot.content_hash,
        snapshot_name=run.snapshot.name,
        snapshot_pictures=run.snapshot.pictures,
        snapshot_boxes=run.snapshot.boxes,
        held_out=run.held_out,
        best_epoch=run.best_epoch,
        best_map50=run.best_map50,
        best_map=run.best_map,
        has_model=has_model,
        minimum_score=run.minimum_score,
        minimum_scores=run.minimum_scores,
        created_at=moment(run.created_at),
        job=job_out(run.job),
    )


@train.get("/projects/<int:project_id>/plan", responses={200: schemas.PlanOut})
def plan(path: ProjectPath, query: schemas.PlanQuery) -> Response:
    """What a run started now would learn from, and what stands in its way."""
    labels = context().labels.for_run(context().folder, path.project_id, query.snapshot_id)
    return reply(schemas.PlanOut.model_validate(plan_run(labels, query.side, query.batch)))


@train.get("/projects/<int:project_id>/runs", responses={200: schemas.RunList})
def list_runs(path: ProjectPath, query: BinQuery) -> Response:
    """The project's runs, or those in its bin, newest first, and the settings that differ among them."""
    with context().reading() as session:
        found = work.list_runs(session, path.project_id, query.binned)
        listed = [run_out(context().folder, run) for run in found]
        return reply(schemas.RunList(runs=listed, differing=run_table.differing(found)))


@train.get("/projects/<int:project_id>/run-groups", responses={200: schemas.GroupList})
def run_groups(path: ProjectPath, query: schemas.GroupQuery) -> Response:
    """Runs with a result, grouped by a setting, with mean and spread."""
    with context().reading() as session:
        groups = run_table.group_runs(work.list_runs(session, path.project_id), query.by)
        return reply(schemas.GroupList(groups=[schemas.GroupOut.model_validate(each) for each in groups]))


@train.post("/projects/<int:project_id>/runs", responses={202: JobStarted})
def start_run(path: ProjectPath, body: schemas.RunIn) -> Response:
    """Freeze the labels and start a training, in the background: the job's outcome names the run."""
    given = RunOrder(
        project_id=path.project_id,
        settings=body.settings.model_dump(),
        name=body.name,
        snapshot_id=body.snapshot_id,
        start=body.start,
        watched=body.watched,
        on_cluster=body.on_cluster,
        apart=body.apart,
    )
    # What is wrong is said at once rather than by a job that fails.
    work.check_run(context().labels.for_run(context().folder, path.project_id, body.snapshot_id), given)
    return start_job(path.project_id, START_RUN, "Start a run", given)


@train.get("/runs/<int:run_id>", responses={200: schemas.RunDetail})
def get_run(path: schemas.RunPath) -> Response:
    """One run with all its epochs, and hints that are due."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        epochs = [schemas.EpochOut(epoch=each.epoch, **each.figures) for each in run.epochs]
        hints = [schemas.HintOut.model_validate(hint) for hint in hints_of(run)]
        models = work.kept_models(context().folder, run)
        out = run_out(context().folder, run)
        return reply(schemas.RunDetail(run=out, epochs=epochs, hints=hints, models=models))


@train.get("/runs/<int:run_id>/steps", responses={200: schemas.StepCurve})
def steps(path: schemas.RunPath) -> Response:
    """The training loss step by step, also while the first epoch is at work."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        place, per_epoch = context().folder.run(run.project_id, run.id), work.steps_per_epoch(run)
    return reply(schemas.StepCurve(steps_per_epoch=per_epoch, points=step_curve(place)))


@train.patch("/runs/<int:run_id>", responses={200: schemas.RunOut})
def describe_run(path: schemas.RunPath, body: schemas.RunChange) -> Response:
    """Give a run another name or note."""
    with context().sessions.begin() as session:
        run = work.describe_run(session, path.run_id, body.name, body.note)
        return reply(run_out(context().folder, run))


@train.put("/runs/<int:run_id>/binned", responses={200: schemas.RunOut})
def bin_run(path: schemas.RunPath, body: BinIn) -> Response:
    """Move a run to the bin, or restore it."""
    with context().sessions.begin() as session:
        run = work.bin_run(session, path.run_id, body.binned)
        return reply(run_out(context().folder, run))


@train.post("/runs/<int:run_id>/resume", responses={202: schemas.RunOut})
def resume_run(path: schemas.RunPath) -> Response:
    """Let a stopped, failed or interrupted run go on after its last kept epoch."""
    with context().sessions.begin() as session:
        run = work.resume_run(session, path.run_id)
        out = run_out(context().folder, run)
    context().enqueue(out.job.id, out.job.kind)
    return reply(out, 202)


@train.post("/runs/<int:run_id>/extend", responses={202: schemas.RunOut})
def extend_run(path: schemas.RunPath, body: schemas.ExtendIn) -> Response:
    """Add epochs to a run that is done."""
    with context().sessions.begin() as session:
        run = work.extend_run(session, context().folder, path.run_id, body.epochs)
        out = run_out(context().folder, run)
    context().enqueue(out.job.id, out.job.kind)
    return reply(out, 202)


@train.get("/runs/<int:run_id>/log", responses={200: schemas.LogOut})
def read_log(path: schemas.RunPath) -> Response:
    """The run's log, its end where it is long."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        return reply(schemas.LogOut(lines=run_files.read_log(context().folder, run)))


@train.get("/runs/<int:run_id>/model/<which>")
def model(path: schemas.BundlePath) -> Response:
    """The best, the latest or a single epoch's checkpoint as a model bundle."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        file = work.model_path(context().folder, run, path.which)
    return send_file(
        file,
        as_attachment=True,
        download_name=f"{safe_name(run.name)}-{path.which}.zip",
        mimetype="application/zip",
    )


@train.post("/runs/<int:run_id>/onnx", responses={202: JobStarted})
def write_onnx(path: schemas.RunPath) -> Response:
    """Make the best model's ONNX graph and a script for it, in the background; `/jobs/{job_id}/file` has the file."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        work.model_path(context().folder, run)
    return start_job(run.project_id, WRITE_ONNX, f"ONNX of {run.name}", ForRun(run_id=run.id))


@train.get("/runs/<int:run_id>/archive")
def archive(path: schemas.RunPath) -> Response:
    """Settings, figures, log and models of a run as one zip."""
    folder = context().folder
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        target = folder.run(run.project_id, run.id) / "archive.zip"
        run_files.export_run(session, folder, run, target)
    # By its content: a download that broke off goes on, although the archive was made anew.
    return send_file(
        target,
        as_attachment=True,
        download_name=f"{safe_name(run.name)}.zip",
        mimetype="application/zip",
        etag=content_hash(target),
    )


LOOKS: dict[str, tuple[JobKind[LookAhead, Any], str]] = {
    "anchors": (CLUSTER_ANCHORS, "Cluster anchors"),
    "augmented": (DRAW_AUGMENTED, "Draw augmented pictures"),
    "sizes": (SUM_UP_SIZES, "Measure the sizes"),
    "estimate": (PROBE_RUN, "Estimate time and memory"),
}


@train.post("/projects/<int:project_id>/looks/<look>", responses={202: JobStarted})
def look_ahead(path: schemas.LookPath, body: schemas.LookIn) -> Response:
    """Look ahead at a run: its outcome is in the job."""
    kind, title = LOOKS[path.look]
    given = LookAhead(
        project_id=path.project_id,
        snapshot_id=body.snapshot_id,
        settings=body.settings.model_dump(),
        draw=body.draw,
    )
    return start_job(path.project_id, kind, title, given)


@train.get("/sheets/<int:job_id>/<int:number>")
def sheet(path: schemas.SheetPath) -> Response:
    """One augmented picture of a sheet."""
    file = context().folder.sheet(path.job_id) / f"{path.number}.jpg"
    if not file.is_file():
        raise NotFound(f"there is no picture {path.number} of sheet {path.job_id}; draw it again")
    return kept_by_browser(send_file(file, mimetype="image/jpeg"))


@train.post("/projects/<int:project_id>/anchors/effect", responses={200: schemas.EffectOut})
def effect(path: ProjectPath, body: schemas.EffectIn) -> Response:
    """How well anchors chosen by hand fit the training boxes."""
    labels = context().labels.for_run(context().folder, path.project_id, body.snapshot_id)
    return reply(schemas.EffectOut.model_validate(anchor_effect(labels, body.side, body.anchors)))


@train.get("/runs/<int:run_id>/watch", responses={200: schemas.WatchOut})
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
            truths=[schemas.WatchedTruth(class_index=box.label, corners=box.corners) for box in each.boxes],
        )
        for each in found.pictures
    ]
    return reply(schemas.WatchOut(class_names=found.class_names, pictures=pictures, epochs=found.epochs))


@train.get("/runs/<int:run_id>/watch/<int:epoch>", responses={200: schemas.WatchedEpoch})
def watched_epoch(path: schemas.WatchPath) -> Response:
    """What one epoch found on each watch picture."""
    with context().reading() as session:
        kept = following.watched_epoch(session, context().folder, path.run_id, path.epoch)
    pictures = [schemas.Predicted.model_validate(each) for each in kept]
    return reply(schemas.WatchedEpoch(epoch=path.epoch, pictures=pictures))


@train.post("/runs/<int:run_id>/try", responses={202: JobStarted})
def try_model(path: schemas.RunPath, body: schemas.TryIn) -> Response:
    """Try the run's latest checkpoint on a picture, also while it trains: its outcome is in the job."""
    with context().reading() as session:
        run, picture = work.get_run(session, path.run_id), get_picture(session, body.picture_id)
    work.newest_model(context().folder, run)
    given = RunAndPicture(run_id=run.id, picture_id=picture.id)
    return start_job(run.project_id, TRY_MODEL, f"Try {run.name}", given)


@train.post("/projects/<int:project_id>/studies", responses={202: JobStarted})
def start_study(path: ProjectPath, body: schemas.StudyIn) -> Response:
    """Study how precision grows with the number of training pictures: the job's outcome names the study."""
    work_studies.check_study(body.steps, body.seeds)
    settings = body.settings.model_dump()
    wanted = RunOrder(
        project_id=path.project_id,
        settings=settings | {"epochs": 1},
        snapshot_id=body.snapshot_id,
        on_cluster=body.on_cluster,
    )
    labels = context().labels.for_run(context().folder, path.project_id, body.snapshot_id)
    work_studies.check_pictures(work.check_run(labels, wanted)[0].training)
    given = StudyOrder(
        project_id=path.project_id,
        settings=settings,
        steps=body.steps,
        seeds=body.seeds,
        snapshot_id=body.snapshot_id,
        on_cluster=body.on_cluster,
    )
    return start_job(path.project_id, START_STUDY, "Start a study", given)


@train.get("/projects/<int:project_id>/studies", responses={200: schemas.StudyList})
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
