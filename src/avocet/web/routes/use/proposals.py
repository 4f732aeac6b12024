"""Proposals: made by a model, shown on their picture, refused, and what they were worth."""

from dataclasses import asdict

from flask import Response
from flask_openapi3 import Tag

from avocet.store.tables import PictureState, Proposal
from avocet.web.context import context, handed_over, reply
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas.common import JobStarted, ProjectPath
from avocet.web.schemas.pictures import PicturePath
from avocet.web.schemas.use import proposals as schemas
from avocet.work.pictures.files import get_picture
from avocet.work.pictures.listing import Filter, count_pictures
from avocet.work.project.projects import get_project
from avocet.work.use import proposals as work
from avocet.work.use.proposing import start_proposing

proposals = DescribedBlueprint("proposals", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="proposals")])


@proposals.post("/proposals", responses={202: JobStarted})
def propose(body: schemas.ProposeIn) -> Response:
    """Let a model propose boxes for all unlabelled pictures of its project."""
    with context().sessions.begin() as session:
        job = start_proposing(
            session, context().folder, body.run_id, body.ensemble_id, body.minimum_score, body.class_map
        )
    return handed_over(job)


@proposals.get("/projects/<int:project_id>/proposals", responses={200: schemas.ProposedOut})
def proposed(path: ProjectPath) -> Response:
    """What waits to be kept or refused, and what became of what was."""
    with context().reading() as session:
        get_project(session, path.project_id)
        pictures, count = work.proposed_pictures(session, path.project_id)
        unlabelled = count_pictures(session, path.project_id, Filter(state=PictureState.UNLABELLED))
        made = work.labour(session, path.project_id)
    return reply(
        schemas.ProposedOut(
            pictures=pictures,
            proposals=count,
            unlabelled=unlabelled,
            labour=schemas.LabourOut.model_validate(asdict(made)),
        )
    )


@proposals.get("/pictures/<int:picture_id>/proposals", responses={200: schemas.ProposalList})
def of_picture(path: PicturePath) -> Response:
    """What is proposed for a picture, the surest first."""
    with context().reading() as session:
        get_picture(session, path.picture_id)
        return _listed(work.open_proposals(session, path.picture_id))


@proposals.get("/pictures/<int:picture_id>/least-sure", responses={200: schemas.LeastSure})
def least_sure(path: PicturePath) -> Response:
    """Which unlabelled picture to go to from here: the one with the least sure proposal, and unlike this one."""
    with context().reading() as session:
        picture = get_picture(session, path.picture_id)
        return reply(schemas.LeastSure(picture_id=work.least_sure(session, picture)))


@proposals.post("/pictures/<int:picture_id>/proposals/refused", responses={200: schemas.ProposalList})
def refuse(path: PicturePath, body: schemas.RefuseIn) -> Response:
    """Refuse some, or take that back. What was refused does not come back from the same model."""
    with context().sessions.begin() as session:
        get_picture(session, path.picture_id)
        return _listed(work.refuse(session, path.picture_id, body.numbers, body.refused))


def _listed(found: list[Proposal]) -> Response:
    rows = [
        schemas.ProposalOut(
            id=each.id,
            class_name=each.class_name,
            score=each.score,
            model=each.model,
            corners=(each.x1, each.y1, each.x2, each.y2),
        )
        for each in found
    ]
    return reply(schemas.ProposalList(proposals=rows))
