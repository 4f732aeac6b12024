"""The application factory."""

import json
from collections.abc import Callable
from pathlib import Path

from flask import Flask, Response, abort, request, send_from_directory
from flask_openapi3 import Info

from avocet import __version__
from avocet.core.labels.splitting import RATIOS
from avocet.core.raw.candidates import MINIMUM_SCORE, OVERLAP_LIMIT
from avocet.core.raw.fusion import FUSION_IOU
from avocet.core.score.calibration import ENOUGH_DETECTIONS
from avocet.core.score.measurement import AREA_BOUNDS
from avocet.media.cropping import AROUND
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.web.context import context_of
from avocet.web.document import DescribedAPI
from avocet.web.door.keeper import Doorkeeper
from avocet.web.problems import handle_problems, invalid_request, problem
from avocet.web.routes import ALL
from avocet.web.schemas.common import Problem
from avocet.web.uploads import accept_uploads
from avocet.work.train.ahead.choices import AugmentationIn, SettingsIn
from avocet.work.train.ahead.plan import ENOUGH_RESOLVED, LEARNABLE_SIDE, RESOLVED_SIDE, USUAL_SIDE

DOCUMENTS_POLICY = "default-src 'self'; script-src 'self' 'unsafe-inline'; style-src 'self' 'unsafe-inline'"
"""What the generator of the documents needs; nothing of them comes from outside."""

PAGE = Path(__file__).parent / "page"
"""Where the built page lies."""

LOCAL_NAMES = frozenset({"127.0.0.1", "localhost", "[::1]"})
"""Names by which a server on the loopback address is called."""

CONSTANTS = {
    "enough_detections": ENOUGH_DETECTIONS,
    "minimum_score": MINIMUM_SCORE,
    "side": USUAL_SIDE,
    "overlap_limit": OVERLAP_LIMIT,
    "fusion_iou": FUSION_IOU,
    "split": RATIOS,
    "learnable": LEARNABLE_SIDE,
    "resolved": RESOLVED_SIDE,
    "enough_resolved": ENOUGH_RESOLVED,
    "area_bounds": AREA_BOUNDS,
    "crop_around": AROUND,
}
"""What the page needs to know before it asks anything; each is declared where it is used."""

FOREIGN = frozenset({"cross-site", "same-site"})
"""What a browser says of requests that another page makes (W3C Fetch Metadata)."""

LARGEST_REQUEST = 8 * 1024**3


def create_app(
    folder: DataFolder,
    sessions: Sessions,
    enqueue: Callable[[int, str], None],
    hosts: frozenset[str] | None = LOCAL_NAMES,
    password: str | None = None,
    roots: tuple[Path, ...] = (),
) -> Flask:
    """Make the application.

    Parameters
    ----------
    folder : DataFolder
    sessions : sessionmaker
    enqueue : callable
        Hands a recorded job (its number and kind) to the worker.
    hosts : frozenset of str
        Names under which the server may be addressed; anything else is refused, so that no
        foreign page can reach it through a name of its own. None takes any name; then there
        must be a password.
    password : str, optional
        Wanted with every request, by HTTP basic authentication under any user name, or once for a session.
    roots : tuple of Path
        Folders of the server that pictures may be read from.

    Returns
    -------
    Flask
    """
    if hosts is None and not password:
        raise ValueError("a server open to any name needs a password")
    app = DescribedAPI(
        "avocet",
        info=Info(title="Avocet", version=__version__),
        security_schemes={},
        doc_ui=True,
        doc_prefix="/api/v1",
        doc_url="/openapi.json",
        validation_error_status=422,
        validation_error_model=Problem,
        validation_error_callback=invalid_request,
        static_folder=None,
    )
    keeper = Doorkeeper(password) if password else None
    allowed = tuple(each.resolve() for each in roots)
    app.extensions["avocet"] = context_of(folder, sessions, enqueue, allowed, keeper)
    accept_uploads(app)
    app.config["MAX_CONTENT_LENGTH"] = LARGEST_REQUEST
    app.config["MAX_FORM_PARTS"] = 100_000
    handle_problems(app)
    _guard(app, hosts, keeper)
    for blueprint in ALL:
        app.register_api(blueprint)
    _serve_page(app)
    return app


def openapi_document(app: Flask) -> str:
    """The OpenAPI document as JSON text, for the page's generated types."""
    # What a training can be set to, with names, steps and units, which OpenAPI's own fields have no place for.
    declared = {
        each.__name__: each.model_json_schema()["properties"] for each in (SettingsIn, AugmentationIn)
    }
    document = app.api_doc | {"x-constants": CONSTANTS, "x-settings": declared}  # type: ignore[attr-defined]
    return json.dumps(document, indent=2, sort_keys=True, ensure_ascii=False) + "\n"


def _guard(app: Flask, hosts: frozenset[str] | None, keeper: Doorkeeper | None) -> None:
    @app.before_request
    def check_password() -> Response | None:
        if keeper is None or keeper.knows(
            request.headers.get("Authorization"), request.headers.get("Cookie")
        ):
            return None
        refused = problem(401, "Password wanted", "the password of this server is missing or wrong")
        refused.headers["WWW-Authenticate"] = 'Basic realm="Avocet"'
        return refused

    @app.before_request
    def check_host_and_origin() -> None:
        if hosts is not None and _host_name(request.host) not in hosts:
            abort(400, f"this server does not answer to the name {request.host!r}")
        origin = request.headers.get("Origin")
        if origin and origin != "null" and origin.partition("://")[2] != request.host:
            abort(403, f"requests from {origin} are not accepted")
        # A picture on a foreign page asks without an origin, but a browser says where it comes from.
        if request.path.startswith("/api/") and request.headers.get("Sec-Fetch-Site") in FOREIGN:
            abort(403, "requests from pages of other addresses are not accepted")
        if origin == "null" and request.method not in ("GET", "HEAD"):
            abort(403, "requests without an origin are not accepted")

    @app.after_request
    def protect(response: Response) -> Response:
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers["Referrer-Policy"] = "same-origin"
        response.headers["X-Frame-Options"] = "DENY"
        response.headers.setdefault(
            "Content-Security-Policy",
            "default-src 'self'; img-src 'self' blob: data:; media-src 'self' blob:; style-src 'self' 'unsafe-inline'",
        )
        return response


def _host_name(host: str) -> str:
    return host[: host.index("]") + 1] if host.startswith("[") and "]" in host else host.split(":")[0].lower()


def _is_built(name: str) -> bool:
    try:
        return (PAGE / name).is_file()
    except (OSError, ValueError):
        # A name that is too long, or holds a zero byte.
        return False


def _serve_page(app: Flask) -> None:
    def page(name: str = "") -> Response:
        if name.startswith("api/"):
            abort(404, f"there is nothing at /{name}")
        if not (PAGE / "index.html").is_file():
            abort(503, "the page is not built; run make setup")
        if name.rstrip("/") == "docs":
            # Its own pages are beside one another: links between them need the slash.
            return Response(status=302, headers={"Location": "/docs/index.html"})
        if (name and _is_built(name)) or name.startswith("assets/"):
            response = send_from_directory(PAGE, name)
            if name.startswith("docs/"):
                response.headers["Content-Security-Policy"] = DOCUMENTS_POLICY
            if name.startswith("assets/"):
                # Their names change with their content.
                response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        if name.startswith("docs/"):
            abort(404, f"there is no document at /{name}")
        response = send_from_directory(PAGE, "index.html")
        response.headers["Cache-Control"] = "no-cache"
        return response

    # Plain Flask rules: the page is no part of the described interface.
    app.add_url_rule("/", "page", page)
    app.add_url_rule("/<path:name>", "page", page)
