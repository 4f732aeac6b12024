"""Runs: planning, starting, following, resuming, comparing, models."""

from flask import Response, send_file
from flask_openapi3 import APIBlueprint, Tag

from avocet.store.folder import DataFolder
from avocet.store.tables import Run
from avocet.web.context import context, job_out, moment, reply
from avocet.web.schemas import train as schemas
from avocet.web.schemas.common import BinIn, ProjectPath
from avocet.web.schemas.judge import MinimumScoresIn
from avocet.work import models, run_files, run_table
from avocet.work import runs as work
from avocet.work.following import hints_of
from avocet.work.planning import plan_run
from avocet.work.problems import NotFound

runs = APIBlueprint("runs", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="runs")])


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
        facts=run.facts,
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
        minimum_scores=run.minimum_scores,
        created_at=moment(run.created_at),
        job=job_out(run.job),
    )


@runs.get("/projects/<int:project_id>/plan", responses={200: schemas.PlanOut})
def plan(path: ProjectPath, query: schemas.PlanQuery) -> Response:
    """What a run started now would learn from, and what stands in its way."""
    with context().reading() as session:
        frozen, _ = work.labels_to_learn(session, context().folder, path.project_id, query.snapshot_id)
        return reply(schemas.PlanOut.model_validate(plan_run(frozen, query.side, query.batch)))


@runs.get("/projects/<int:project_id>/runs", responses={200: schemas.RunList})
def list_runs(path: ProjectPath, query: schemas.RunsQuery) -> Response:
    """The project's runs, or those in its bin, newest first, and the settings that differ among them."""
    with context().reading() as session:
        found = work.list_runs(session, path.project_id, query.binned)
        listed = [run_out(context().folder, run) for run in found]
        return reply(schemas.RunList(runs=listed, differing=run_table.differing(found)))


@runs.get("/projects/<int:project_id>/run-groups", responses={200: schemas.GroupList})
def run_groups(path: ProjectPath, query: schemas.GroupQuery) -> Response:
    """Runs with a result, grouped by a setting, with mean and spread."""
    with context().reading() as session:
        groups = run_table.group_runs(work.list_runs(session, path.project_id), query.by)
        return reply(schemas.GroupList(groups=[schemas.GroupOut.model_validate(each) for each in groups]))


@runs.post("/projects/<int:project_id>/runs", responses={202: schemas.RunOut})
def start_run(path: ProjectPath, body: schemas.RunIn) -> Response:
    """Freeze the labels and start a training."""
    with context().sessions.begin() as session:
        run = work.start_run(
            session,
            context().folder,
            path.project_id,
            body.settings.model_dump(),
            body.name,
            body.snapshot_id,
            body.start,
            body.watched,
        )
        job_id, kind, out = run.job.id, run.job.kind, run_out(context().folder, run)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@runs.get("/runs/<int:run_id>", responses={200: schemas.RunDetail})
def get_run(path: schemas.RunPath) -> Response:
    """One run with all its epochs, and hints that are due."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        epochs = [schemas.EpochOut(epoch=each.epoch, **each.figures) for each in run.epochs]
        hints = [schemas.HintOut.model_validate(hint) for hint in hints_of(run)]
        models = work.kept_models(context().folder, run)
        out = run_out(context().folder, run)
        return reply(schemas.RunDetail(run=out, epochs=epochs, hints=hints, models=models))


@runs.patch("/runs/<int:run_id>", responses={200: schemas.RunOut})
def describe_run(path: schemas.RunPath, body: schemas.RunChange) -> Response:
    """Give a run another name or note."""
    with context().sessions.begin() as session:
        run = work.describe_run(session, path.run_id, body.name, body.note)
        return reply(run_out(context().folder, run))


@runs.put("/runs/<int:run_id>/binned", responses={200: schemas.RunOut})
def bin_run(path: schemas.RunPath, body: BinIn) -> Response:
    """Put a run into the bin, or take it back."""
    with context().sessions.begin() as session:
        run = work.bin_run(session, path.run_id, body.binned)
        return reply(run_out(context().folder, run))


@runs.put("/runs/<int:run_id>/minimum-scores", responses={200: schemas.RunOut})
def choose_minimum_scores(path: schemas.RunPath, body: MinimumScoresIn) -> Response:
    """Make minimum scores by class the model's default; none takes them back."""
    with context().sessions.begin() as session:
        run = models.choose_minimum_scores(session, context().folder, path.run_id, body.scores)
        return reply(run_out(context().folder, run))


@runs.post("/runs/<int:run_id>/resume", responses={202: schemas.RunOut})
def resume_run(path: schemas.RunPath) -> Response:
    """Let a stopped, failed or interrupted run go on after its last kept epoch."""
    with context().sessions.begin() as session:
        run = work.resume_run(session, path.run_id)
        job_id, kind, out = run.job.id, run.job.kind, run_out(context().folder, run)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@runs.post("/runs/<int:run_id>/extend", responses={202: schemas.RunOut})
def extend_run(path: schemas.RunPath, body: schemas.ExtendIn) -> Response:
    """Add epochs to a run that is done."""
    with context().sessions.begin() as session:
        run = work.extend_run(session, path.run_id, body.epochs)
        job_id, kind, out = run.job.id, run.job.kind, run_out(context().folder, run)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@runs.get("/runs/<int:run_id>/log", responses={200: schemas.LogOut})
def read_log(path: schemas.RunPath) -> Response:
    """The run's log, its end where it is long."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        return reply(schemas.LogOut(lines=run_files.read_log(context().folder, run)))


@runs.get("/runs/<int:run_id>/model/<which>")
def model(path: schemas.BundlePath) -> Response:
    """The best, the latest or a single epoch's checkpoint as a model bundle."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        file = work.model_path(context().folder, run, path.which)
    return send_file(
        file,
        as_attachment=True,
        download_name=f"{_safe(run.name)}-{path.which}.zip",
        mimetype="application/zip",
    )


@runs.get("/runs/<int:run_id>/archive")
def archive(path: schemas.RunPath) -> Response:
    """Settings, figures, log and models of a run as one zip."""
    folder = context().folder
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        target = folder.run(run.project_id, run.id) / "archive.zip"
        run_files.export_run(session, folder, run, target)
    return send_file(
        target, as_attachment=True, download_name=f"{_safe(run.name)}.zip", mimetype="application/zip"
    )


def _safe(name: str) -> str:
    return "".join(letter if letter.isalnum() else "-" for letter in name)
