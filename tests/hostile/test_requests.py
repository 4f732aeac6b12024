"""Requests made to harm: every answer is a problem document that says what was wrong, none is a 500."""

import gc
import io
import json

import pytest

from avocet.web.app import openapi_document
from avocet.work.labels.classes import add_classes, list_classes
from avocet.work.project.projects import create_project

BASE = "/api/v1"
HUGE = 2**70


@pytest.fixture
def client(data, labelled, app_of):
    return app_of(*data).test_client()


def operations(client):
    """Method and path of everything that the server offers."""
    paths = json.loads(openapi_document(client.application))["paths"]
    return [(method, path) for path, methods in paths.items() for method in methods]


def filled(path, number):
    parts = [str(number) if part.startswith("{") else part for part in path.split("/")]
    return "/".join(parts)


@pytest.mark.long
@pytest.mark.parametrize("number", [HUGE, 2**63, -1, 0])
def test_numbers_beyond_all_measure_in_every_path(client, number):
    wrong = []
    for method, path in operations(client):
        if "{" not in path:
            continue
        reply = getattr(client, method)(filled(path, number), json={})
        if reply.status_code >= 500:
            wrong.append((method, path, reply.status_code))
    assert wrong == []


def test_numbers_beyond_all_measure_in_bodies_and_queries(client):
    for reply in (
        client.put(f"{BASE}/projects/1/parts", json={"ids": [HUGE], "part": "test"}),
        client.post(f"{BASE}/projects/1/boxes", json={"ids": [1], "class_id": HUGE}),
        client.get(f"{BASE}/projects/1/pictures?after={HUGE}"),
        client.get(f"{BASE}/projects/1/pictures?skip={HUGE}"),
        client.post(f"{BASE}/projects/1/runs", json={"settings": {}, "snapshot_id": HUGE}),
        client.put(f"{BASE}/pictures/1/labels", json={"revision": HUGE, "state": "done", "boxes": []}),
    ):
        assert reply.status_code in (409, 422), reply.data
        assert reply.mimetype == "application/problem+json"


def test_nothing_is_kept_of_what_was_refused(client):
    """Programs that ask wrongly all day would fill the memory, and each search for rubbish would take longer."""

    def kept():
        gc.collect()
        return sum(type(each) is client.application.request_class for each in gc.get_objects())

    before = kept()
    for method, path in operations(client):
        for number, body in (
            (HUGE, {}),
            (1, {"revision": HUGE, "state": "done", "settings": {"side": 1}, "name": "\n"}),
        ):
            getattr(client, method)(filled(path, number), json=body)
    for order in ({"threshold": HUGE}, {"run_id": HUGE}, {"counting": "belt: 0,0"}):
        client.post(f"{BASE}/detections/upload", data=order, content_type="multipart/form-data")
        client.post(f"{BASE}/projects/1/evaluations/upload", data={"order": json.dumps(order)})
    assert kept() - before <= 1


@pytest.mark.parametrize(
    "body", ["[" * 100_000, '{"name": ' * 50_000, '{"name": ' + "9" * 5000 + "}", '"\\ud800"']
)
def test_bodies_that_no_reader_likes(client, body):
    for method, path in operations(client):
        if method in ("post", "put", "patch"):
            reply = getattr(client, method)(filled(path, 1), data=body, content_type="application/json")
            assert reply.status_code < 500, (method, path, reply.data[:300])


@pytest.mark.parametrize("name", ["a\x00b", "a\u202egpj.exe", "tab\tname", "\ud800"])
def test_names_that_cannot_be_shown_are_refused(client, name):
    for path, body in (
        ("/projects", {"name": name}),
        ("/projects/1/classes", {"name": name}),
        ("/projects/1/classes/pasted", {"text": f"fine\n{name}"}),
    ):
        reply = client.post(BASE + path, data=json.dumps(body), content_type="application/json")
        assert reply.status_code == 422, (path, reply.data)
    tagged = client.put(
        f"{BASE}/projects/1/tags",
        data=json.dumps({"ids": [1], "tag": name, "on": True}),
        content_type="application/json",
    )
    assert tagged.status_code == 422
    assert [each["name"] for each in client.get(f"{BASE}/projects").json["projects"]] == ["Belt"]


@pytest.mark.parametrize(
    "path", ["/%00", "/a%00b", "/" + "x" * 5000, "/assets/%00", "/assets/" + "x" * 300, "/..%2f..%2fetc"]
)
def test_paths_of_the_page(client, path):
    assert client.get(path).status_code in (200, 400, 404)


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({"Origin": "http://["}, 403),
        ({"Origin": "nonsense"}, 403),
        ({"Sec-Fetch-Site": "cross-site"}, 403),
        ({"Sec-Fetch-Site": "same-site"}, 403),
        ({"Sec-Fetch-Site": "same-origin"}, 200),
        ({"Sec-Fetch-Site": "none"}, 200),
    ],
)
def test_where_a_request_comes_from(client, headers, status):
    assert client.get(f"{BASE}/pictures/1", headers=headers).status_code == status
    # A link from elsewhere to the page itself is no harm.
    assert client.get("/project/1/collect", headers={"Sec-Fetch-Site": "cross-site"}).status_code == 200


@pytest.mark.parametrize("corner", ["-30000", "-1e300", "1e18", "nan", "inf"])
def test_crops_far_outside(client, corner):
    for query in (f"x1={corner}&y1={corner}&x2=30000&y2=30000", f"x1=0&y1=0&x2={corner}&y2={corner}"):
        assert client.get(f"{BASE}/pictures/1/crop?{query}").status_code in (200, 422)


def test_looks_and_fusions_of_what_is_not_there(client):
    for path, body in (
        ("/projects/1/looks/anchors", {"settings": {"side": 0}}),
        ("/projects/1/looks/sheet", {"settings": {"side": 0}}),
        ("/projects/99/fusions", {"members": [], "picture_id": 1}),
        ("/projects/99/looks/anchors", {"settings": {}}),
    ):
        reply = client.post(BASE + path, json=body)
        assert reply.status_code in (404, 405, 422), (path, reply.data)


def test_one_bad_name_in_a_batch_refuses_that_one(client, frames):
    from tests.web.conftest import jpeg

    sent = [(jpeg(frames[0]), "good.jpg"), (io.BytesIO(b"x"), "../../bad.jpg")]
    reply = client.post(f"{BASE}/projects/1/media", data={"files": sent}, content_type="multipart/form-data")
    assert reply.status_code == 200
    assert [each["outcome"] for each in reply.json["files"]] == ["already there", "refused"]


def test_pasting_many_class_names_takes_no_time(data, monkeypatch):
    """Renumbering after each of them made it a matter of half a minute with the lock held."""
    with data[1].begin() as session:
        project_id = create_project(session, "Many").id
        asked = []
        monkeypatch.setattr("avocet.work.labels.classes.renumber", lambda classes: asked.append(1))
        added, _ = add_classes(session, project_id, "\n".join(f"good {number}" for number in range(990)))
        assert len(added) == 990 and len(asked) <= 1
        assert [each.position for each in list_classes(session, project_id)] == list(range(1, 991))
