"""A picture taken apart, boxes of several models combined, ensembles."""

from dataclasses import asdict
from functools import lru_cache

from flask import Response
from flask_openapi3 import Tag

from avocet.core.raw.explaining import Fates
from avocet.web.context import context, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas import anatomy as schemas
from avocet.web.schemas.common import JobStarted, ProjectPath
from avocet.web.schemas.train import RunPath
from avocet.work.anatomy import fusion
from avocet.work.anatomy.raw import TakenApart, shown_candidates
from avocet.work.job_givens import PictureApart, RunsAndPicture
from avocet.work.job_kinds import FIND_BOXES, TAKE_APART
from avocet.work.jobs import get_job, outcome_of
from avocet.work.pictures.files import get_picture
from avocet.work.problems import NotFound
from avocet.work.train.runs import get_run, model_path

anatomy = DescribedBlueprint("anatomy", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="anatomy")])


@anatomy.post("/runs/<int:run_id>/anatomies", responses={202: JobStarted})
def take_apart(path: RunPath, body: schemas.TakeApartIn) -> Response:
    """Take a picture apart with a run's model; what follows is found under the job's number."""
    with context().reading() as session:
        run, picture = get_run(session, path.run_id), get_picture(session, body.picture_id)
    model_path(context().folder, run, body.checkpoint)
    given = PictureApart(run_id=run.id, picture_id=picture.id, checkpoint=body.checkpoint)
    return start_job(run.project_id, TAKE_APART, f"Take {picture.name} apart", given)


@anatomy.get("/anatomies/<int:job_id>", responses={200: schemas.AnatomyOut})
def get_anatomy(path: schemas.AnatomyPath) -> Response:
    """The grids of cells, and how the picture lies in the input."""
    apart = _apart(path.job_id)
    facts, box = apart.facts, apart.box
    return reply(
        schemas.AnatomyOut(
            model=facts.model,
            picture=facts.picture,
            picture_id=facts.picture_id,
            width=facts.width,
            height=facts.height,
            class_names=facts.classes,
            scale=(box.scale_x, box.scale_y),
            offset=(box.left, box.top),
            input=(box.input_width, box.input_height),
            levels=[schemas.LevelOut.model_validate(each) for each in apart.levels()],
            calibrated=facts.calibration is not None,
            minimum_score=facts.minimum_score,
            truths=[schemas.AnatomyTruth(class_index=each[0], corners=each[1:]) for each in facts.truths],
        )
    )


@anatomy.get("/anatomies/<int:job_id>/fates", responses={200: schemas.FatesOut})
def fates(path: schemas.AnatomyPath, query: schemas.FateQuery) -> Response:
    """What becomes of the candidates: the funnel, and each with its fate."""
    apart = _apart(path.job_id)
    found = _fates(apart, query)
    everything, above, best, kept = found.funnel()
    return reply(
        schemas.FatesOut(
            funnel=(everything, above, best, kept),
            candidates=[schemas.CandidateOut(**each) for each in shown_candidates(apart, found)],
        )
    )


@anatomy.get("/anatomies/<int:job_id>/near", responses={200: schemas.NearOut})
def near(path: schemas.AnatomyPath, query: schemas.NearQuery) -> Response:
    """The candidates nearest to a truth, and at which step each was lost."""
    apart = _apart(path.job_id)
    if query.truth >= len(apart.facts.truths):
        raise NotFound(f"the picture has no truth {query.truth}")
    corners = apart.facts.truths[query.truth][1:]
    found = _fates(apart, query)
    shown = shown_candidates(apart, found, truth=corners)
    return reply(schemas.NearOut(candidates=[schemas.CandidateOut(**each) for each in shown]))


@anatomy.get("/anatomies/<int:job_id>/cell", responses={200: schemas.ArithmeticOut})
def cell(path: schemas.AnatomyPath, query: schemas.AnatomyCellQuery) -> Response:
    """The arithmetic of one cell and anchor, step by step."""
    apart = _apart(path.job_id)
    place = (query.level, query.row, query.column, query.anchor)
    made = apart.cell(*place)
    return reply(schemas.ArithmeticOut(number=apart.number_of(*place), **asdict(made)))


@anatomy.post("/projects/<int:project_id>/fusions", responses={202: JobStarted})
def find_boxes(path: ProjectPath, body: schemas.FindBoxesIn) -> Response:
    """What several runs find on one picture; combined under the job's number."""
    with context().reading() as session:
        picture = get_picture(session, body.picture_id)
        for run_id in body.run_ids:
            model_path(context().folder, get_run(session, run_id))
    given = RunsAndPicture(run_ids=body.run_ids, picture_id=picture.id)
    return start_job(path.project_id, FIND_BOXES, f"Combine models on {picture.name}", given)


@anatomy.post("/fusions/<int:job_id>", responses={200: schemas.FusionOut})
def combine(path: schemas.AnatomyPath, body: schemas.FusionIn) -> Response:
    """The boxes of several models combined, and all together merely suppressed."""
    with context().reading() as session:
        found = outcome_of(get_job(session, path.job_id), FIND_BOXES)
    made = fusion.combine(found, body.weights, body.overlap_limit, body.minimum_score)
    return reply(schemas.FusionOut.model_validate(made))


def _fates(apart: TakenApart, query: schemas.FateQuery) -> Fates:
    return apart.fates(query.minimum_score, query.overlap_limit, query.suppression, query.sigma, query.most)


def _apart(job_id: int) -> TakenApart:
    return _kept(str(context().folder.root), job_id)


@lru_cache(maxsize=8)
def _kept(_data: str, job_id: int) -> TakenApart:
    """What was taken apart never changes, so the last few stay in memory."""
    return TakenApart.kept(context().folder, job_id)
