"""The doors: errors as problem documents, foreign pages, passwords, a full disk, the page itself."""

import importlib
import json
import pkgutil
import re
import urllib.parse
from pathlib import Path

import pytest
from openapi_spec_validator import validate
from sqlalchemy.exc import OperationalError

from avocet.web import schemas
from avocet.web.app import create_app, openapi_document
from avocet.web.schemas.anatomy import FateQuery, NearQuery
from avocet.web.schemas.common import Query
from avocet.web.schemas.pictures import PictureQuery
from tests.web.conftest import BASE, jpeg, send


@pytest.mark.long
@pytest.mark.slow
def test_openapi_document_is_valid(client):
    document = json.loads(openapi_document(client.application))
    validate(document)
    assert document["openapi"].startswith("3.1")
    assert "/api/v1/pictures/{picture_id}/labels" in document["paths"]


@pytest.mark.slow
def test_generated_types_are_of_this_server(client):
    kept = Path(__file__).parents[2] / "frontend" / "openapi.json"
    assert kept.read_text() == openapi_document(client.application), "run make types"


@pytest.mark.parametrize(
    ("method", "url", "body", "status", "expected"),
    [
        ("post", "/projects", {"name": ""}, 422, "1 to 100 characters"),
        ("post", "/projects", {"name": 5}, 422, "name: Input should be a valid string, not 5"),
        ("post", "/projects", {"title": "x"}, 422, "name"),
        ("post", "/projects", "nonsense", 422, ""),
        ("get", "/projects/99", None, 404, "there is no project 99"),
        ("get", "/pictures/99", None, 404, "there is no picture 99"),
        ("get", "/runs/99", None, 404, "there is no run 99"),
        ("get", "/evaluations/99", None, 404, "there is no measurement 99"),
        ("get", "/detections/99", None, 404, "there is no detection run 99"),
        ("get", "/nowhere", None, 404, "nothing at /api/v1/nowhere"),
        ("get", "/projects/1/pictures?limit=0", None, 422, "limit"),
        ("get", "/projects/1/pictures?state=odd", None, 422, "state"),
        ("post", "/jobs/99/stop", None, 404, "there is no job 99"),
        ("post", "/projects/1/evaluations", {"run_id": 1, "part": "all"}, 422, "part"),
        ("post", "/projects/1/media", None, 422, "no file was sent"),
    ],
)
def test_refusals_are_problem_documents(client, method, url, body, status, expected):
    client.post(f"{BASE}/projects", json={"name": "Belt"})
    reply = getattr(client, method)(BASE + url, **({"json": body} if body is not None else {}))
    assert reply.status_code == status
    assert reply.mimetype == "application/problem+json"
    assert reply.json["status"] == status and expected in reply.json["detail"]


@pytest.mark.parametrize("name", ["../../etc/passwd.jpg", "a\n.jpg", "x" * 600 + ".jpg"])
def test_hostile_names_are_refused(client, frames, name):
    client.post(f"{BASE}/projects", json={"name": "Belt"})
    reply = send(client, "/projects/1/media", (jpeg(frames[0]), name))
    # A line break ends the header that carries the name: then nothing has come.
    assert reply.status_code == 422 or [each["outcome"] for each in reply.json["files"]] == ["refused"]


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({"Host": "evil.example"}, 400),
        ({"Host": "127.0.0.1:8321"}, 200),
        ({"Host": "[::1]:8321"}, 200),
        ({"Host": "127.0.0.1", "Origin": "http://evil.example"}, 403),
        ({"Host": "127.0.0.1:8321", "Origin": "http://127.0.0.1:8321"}, 200),
    ],
)
def test_foreign_pages_cannot_reach_it(client, headers, status):
    assert client.get(f"{BASE}/projects", headers=headers).status_code == status


def test_open_server_wants_its_password(data):
    folder, sessions = data
    with pytest.raises(ValueError, match="password"):
        create_app(folder, sessions, lambda job_id, kind: None, hosts=None)
    client = create_app(folder, sessions, lambda job_id, kind: None, hosts=None, password="rye").test_client()
    for given, status in ((None, 401), (("me", "wheat"), 401), (("me", "rye"), 200)):
        reply = client.get(f"{BASE}/projects", auth=given, headers={"Host": "belt.example"})
        assert reply.status_code == status
        assert status == 200 or reply.headers["WWW-Authenticate"] == 'Basic realm="Avocet"'


def test_full_disk_is_said(client, monkeypatch):
    def full(*_):
        raise OperationalError("INSERT", {}, Exception("database or disk is full"))

    monkeypatch.setattr("avocet.work.project.projects.create_project", full)
    reply = client.post(f"{BASE}/projects", json={"name": "Belt"})
    assert reply.status_code == 507 and "disk with the data folder is full" in reply.json["detail"]


def test_page_and_its_safety_headers(client):
    reply = client.get("/project/1/collect")
    assert reply.status_code == 200 and b'<div id="app">' in reply.data
    assert (
        reply.headers["X-Content-Type-Options"] == "nosniff"
        and "default-src 'self'" in reply.headers["Content-Security-Policy"]
    )
    assert client.get("/assets/gone.js").status_code == 404
    assert (
        client.get("/../pyproject.toml").status_code in (200, 404)
        and b"[project]" not in client.get("/../pyproject.toml").data
    )


def test_the_documents_are_handed_out_whole(client):
    """Every page that is named, every link and picture on it; and nothing from elsewhere."""
    found = client.get("/docs")
    assert found.status_code == 302 and found.location == "/docs/index.html"
    todo, seen = ["/docs/index.html"], set()
    while todo:
        address = todo.pop()
        if address in seen:
            continue
        seen.add(address)
        page = client.get(address)
        assert page.status_code == 200, address
        if not address.endswith(".html"):
            continue
        text = page.get_data(as_text=True)
        assert "unsafe-eval" not in page.headers["Content-Security-Policy"]
        for kind, target in re.findall(r'(href|src)="([^"#]+)', text):
            if target.startswith(("http:", "https:", "mailto:", "data:")):
                assert kind == "href", f"{address} takes {target} from elsewhere"
                continue
            todo.append(urllib.parse.urljoin(address, target))
    pages = {Path(each).stem for each in seen if each.endswith(".html")}
    assert {"collect", "train", "judge", "use", "api"} <= pages
    assert {"index", "first-hour", "files", "numbers", "words", "cluster", "security", "demo"} <= pages
    assert any(each.endswith("clip.png") for each in seen)
    assert client.get("/docs/nothing.html").status_code == 404


def test_what_a_query_may_hold_is_worked_out_once():
    """The framework asks with every request, and working it out takes as long as answering."""
    assert PictureQuery.model_json_schema() is PictureQuery.model_json_schema()
    assert PictureQuery.model_json_schema(ref_template="#/{model}") is not PictureQuery.model_json_schema()
    fewer, more = (set(each.model_json_schema()["properties"]) for each in (FateQuery, NearQuery))
    assert fewer < more
    for module in pkgutil.walk_packages(schemas.__path__, "avocet.web.schemas."):
        for name, each in vars(importlib.import_module(module.name)).items():
            if name.endswith("Query") and isinstance(each, type):
                assert issubclass(each, Query), f"{module.name}.{name}"
