"""Pictures that the browser may keep for itself."""

import hashlib

from flask import Response, request

SECONDS = 86_400


def kept_by_browser(response: Response, may_change: bool = False) -> Response:
    """Let only the browser itself keep an answer, for a day or to ask again each time, and answer 304 to whoever has it already."""
    response.headers["Cache-Control"] = "private, no-cache" if may_change else f"private, max-age={SECONDS}"
    if response.get_etag()[0] is None:
        response.set_etag(hashlib.sha256(response.get_data()).hexdigest()[:32])
    response.make_conditional(request)
    return response
