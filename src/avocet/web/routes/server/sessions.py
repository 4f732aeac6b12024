"""Who is signed in."""

from flask import Response, request
from flask_openapi3 import Tag

from avocet.web.context import context, reply
from avocet.web.document import DescribedBlueprint
from avocet.web.door.keeper import COOKIE
from avocet.web.schemas.server import sessions as schemas

sessions = DescribedBlueprint("sessions", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="sessions")])


@sessions.get("/session", responses={200: schemas.SessionOut})
def own_session() -> Response:
    """Whether one is signed in, and how many others are."""
    return _told()


@sessions.delete("/session", responses={200: schemas.SessionOut})
def end_session(query: schemas.EndQuery) -> Response:
    """Sign out, or end all other sessions. Programs that bring the password with each request have none."""
    keeper = context().keeper
    if keeper is not None:
        keeper.end(request.headers.get("Cookie"), query.others)
    answer = _told()
    if not query.others:
        answer.delete_cookie(COOKIE)
    return answer


def _told() -> Response:
    keeper, cookie = context().keeper, request.headers.get("Cookie")
    if keeper is None:
        return reply(schemas.SessionOut(signed_in=False, others=0))
    return reply(
        schemas.SessionOut(signed_in=keeper.session_of(cookie) is not None, others=keeper.others(cookie))
    )
