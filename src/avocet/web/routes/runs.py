"""Runs: planning, starting, following, resuming, models."""

from flask import Response, send_file
from flask_openapi3 import APIBlueprint, Tag

from avocet.store.folder import DataFolder
from avocet.store.tables import Run
from avocet.web.context import context, job_out, reply
from avocet.web.schemas import learn as schemas
from avocet.web.schemas.common import ProjectPath
from avocet.work import runs as work
from avocet.work.problems import NotFound
from avocet.work.projects import get_project
from avocet.work.snapshots import get_snapshot, labels_now, read_snapshot

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
        settings=run.settings,
        snapshot_hash=run.snapshot.content_hash,
        snapshot_pictures=run.snapshot.pictures,
        snapshot_boxes=run.snapshot.boxes,
        best_epoch=run.best_epoch,
        best_map50=run.best_map50,
        best_map=run.best_map,
        has_model=has_model,
        created_at=run.created_at.isoformat() + "Z",
        job=job_out(run.job),
    )


@runs.get("/projects/<int:project_id>/plan", responses={200: schemas.PlanOut})
def plan(path: ProjectPath, query: schemas.PlanQuery) -> Response:
    """What a run started now would learn from, and what stands in its way."""
    with context().reading() as session:
        get_project(session, path.project_id)
        snapshot = get_snapshot(session, query.snapshot_id) if query.snapshot_id else None
        frozen = (
            read_snapshot(context().folder, snapshot) if snapshot else labels_now(session, path.project_id)
        )
        return reply(schemas.PlanOut.model_validate(work.plan_run(frozen, query.side)))


@runs.get("/projects/<int:project_id>/runs", responses={200: schemas.RunList})
def list_runs(path: ProjectPath) -> Response:
    """The project's runs, newest first."""
    with context().reading() as session:
        found = work.list_runs(session, path.project_id)
        return reply(schemas.RunList(runs=[run_out(context().folder, run) for run in found]))


@runs.post("/projects/<int:project_id>/runs", responses={202: schemas.RunOut})
def start_run(path: ProjectPath, body: schemas.RunIn) -> Response:
    """Freeze the labels and start a training."""
    with context().sessions.begin() as session:
        chosen = body.model_dump(exclude={"name", "snapshot_id"})
        run = work.start_run(session, context().folder, path.project_id, chosen, body.name, body.snapshot_id)
        job_id, kind, out = run.job.id, run.job.kind, run_out(context().folder, run)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@runs.get("/runs/<int:run_id>", responses={200: schemas.RunDetail})
def get_run(path: schemas.RunPath) -> Response:
    """One run with all its epochs."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        epochs = [schemas.EpochOut(epoch=each.epoch, **each.figures) for each in run.epochs]
        return reply(schemas.RunDetail(run=run_out(context().folder, run), epochs=epochs))


@runs.post("/runs/<int:run_id>/resume", responses={202: schemas.RunOut})
def resume_run(path: schemas.RunPath) -> Response:
    """Let a stopped, failed or interrupted run go on after its last kept epoch."""
    with context().sessions.begin() as session:
        run = work.resume_run(session, path.run_id)
        job_id, kind, out = run.job.id, run.job.kind, run_out(context().folder, run)
    context().enqueue(job_id, kind)
    return reply(out, 202)


@runs.get("/runs/<int:run_id>/model/<which>")
def model(path: schemas.BundlePath) -> Response:
    """The best or the latest checkpoint as a model bundle."""
    with context().reading() as session:
        run = work.get_run(session, path.run_id)
        file = work.model_path(context().folder, run, path.which)
    safe = "".join(letter if letter.isalnum() else "-" for letter in run.name)
    return send_file(
        file, as_attachment=True, download_name=f"{safe}-{path.which}.zip", mimetype="application/zip"
    )
