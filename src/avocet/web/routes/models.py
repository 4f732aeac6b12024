"""What answers for a model: ensembles, and the minimum scores that a run is used with."""

from flask import Response
from flask_openapi3 import Tag

from avocet.core.errors import InputError
from avocet.store.tables import Ensemble, JobState
from avocet.web.context import context, moment, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.routes.train import run_out
from avocet.web.schemas import models as schemas
from avocet.web.schemas.common import BinIn, BinQuery, JobStarted, ProjectPath
from avocet.web.schemas.train import RunOut, RunPath
from avocet.work.job_givens import ForRun
from avocet.work.job_kinds import TRY_EIGHT_BITS
from avocet.work.labels.classes import list_classes
from avocet.work.models import bundles
from avocet.work.models import ensembles as work
from avocet.work.models.chosen import chosen_model, classes_known
from avocet.work.project.projects import get_project
from avocet.work.train.runs import get_run, model_path

models = DescribedBlueprint("models", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="models")])


@models.put("/runs/<int:run_id>/minimum-scores", responses={200: RunOut})
def choose_minimum_scores(path: RunPath, body: schemas.MinimumScoresIn) -> Response:
    """Make minimum scores by class the model's default; none resets them."""
    with context().sessions.begin() as session:
        run = bundles.choose_minimum_scores(session, context().folder, path.run_id, body.scores)
        return reply(run_out(context().folder, run))


@models.post("/runs/<int:run_id>/eight-bits", responses={202: JobStarted})
def try_eight_bits(path: RunPath) -> Response:
    """Measure the best model in 8 bits on its validation pictures, in the background; it is used where that serves."""
    with context().reading() as session:
        run = get_run(session, path.run_id)
        model_path(context().folder, run)
        if run.job.state in (JobState.WAITING, JobState.RUNNING):
            raise InputError(f"{run.name} is still training; its weights can be tried in 8 bits afterwards")
    return start_job(run.project_id, TRY_EIGHT_BITS, f"{run.name} in 8 bits", ForRun(run_id=run.id))


@models.delete("/runs/<int:run_id>/eight-bits", responses={200: RunOut})
def take_back_eight_bits(path: RunPath) -> Response:
    """Compute the best model in 32 bits again."""
    bundles.take_back_eight_bits(context().sessions, context().folder, path.run_id)
    with context().reading() as session:
        return reply(run_out(context().folder, get_run(session, path.run_id)))


@models.get("/model-classes", responses={200: schemas.ModelClasses})
def model_classes(query: schemas.ModelQuery) -> Response:
    """The classes that a model finds, and which of them its project does not have."""
    with context().reading() as session:
        model = chosen_model(session, context().folder, query.run_id, query.ensemble_id)
        known = classes_known(session, model)
        here = {each.name for each in list_classes(session, model.project_id)}
    return reply(schemas.ModelClasses(classes=known, missing=[each for each in known if each not in here]))


@models.get("/projects/<int:project_id>/ensembles", responses={200: schemas.EnsembleList})
def list_ensembles(path: ProjectPath, query: BinQuery) -> Response:
    """The project's ensembles, newest first."""
    with context().reading() as session:
        get_project(session, path.project_id)
        found = work.list_ensembles(session, path.project_id, query.binned)
        members = [work.members_of(session, each) for each in found]
    return reply(schemas.EnsembleList(ensembles=[_out(*each) for each in zip(found, members, strict=True)]))


@models.post("/projects/<int:project_id>/ensembles", responses={201: schemas.EnsembleOut})
def make_ensemble(path: ProjectPath, body: schemas.EnsembleIn) -> Response:
    """Save several runs as one model."""
    members = [(each.run_id, each.weight) for each in body.members]
    with context().sessions.begin() as session:
        made = work.make_ensemble(
            session, context().folder, path.project_id, body.name, members, body.overlap_limit, body.method
        )
        return reply(_out(made, work.members_of(session, made)), 201)


@models.put("/ensembles/<int:ensemble_id>/binned", responses={200: schemas.EnsembleOut})
def bin_ensemble(path: schemas.EnsemblePath, body: BinIn) -> Response:
    """Move an ensemble to the bin, or restore it."""
    with context().sessions.begin() as session:
        made = work.bin_ensemble(session, path.ensemble_id, body.binned)
        return reply(_out(made, work.members_of(session, made)))


def _out(ensemble: Ensemble, members: list[dict]) -> schemas.EnsembleOut:
    return schemas.EnsembleOut(
        id=ensemble.id,
        name=ensemble.name,
        members=[schemas.MemberOut(**each) for each in members],
        method=ensemble.method,
        overlap_limit=ensemble.overlap_limit,
        created_at=moment(ensemble.created_at),
    )
