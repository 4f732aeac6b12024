"""The server through HTTP: every resource, every refusal."""

import io
import json
import sys
from pathlib import Path

import numpy as np
import pytest
from openapi_spec_validator import validate
from PIL import Image
from sqlalchemy.exc import OperationalError

from avocet.store.tables import Job, Picture
from avocet.web.app import create_app, openapi_document
from tests.web.conftest import BASE, jpeg, send


def test_openapi_document_is_valid(client):
    document = json.loads(openapi_document(client.application))
    validate(document)
    assert document["openapi"].startswith("3.1")
    assert "/api/v1/pictures/{picture_id}/labels" in document["paths"]


def test_generated_types_are_of_this_server(client):
    kept = Path(__file__).parents[2] / "frontend" / "openapi.json"
    assert kept.read_text() == openapi_document(client.application), "run make types"


def test_projects_and_classes(client):
    made = client.post(f"{BASE}/projects", json={"name": "Belt"})
    assert made.status_code == 201 and made.json["stages"]["pictures"] == 0
    assert [each["name"] for each in client.get(f"{BASE}/projects").json["projects"]] == ["Belt"]
    classes = client.post(f"{BASE}/projects/1/classes", json={"name": "roll"}).json["classes"]
    assert classes[0]["position"] == 1 and classes[0]["boxes"] == 0
    renamed = client.patch(f"{BASE}/projects/1/classes/1", json={"name": "bun", "colour": "#123456"})
    assert renamed.json["classes"][0]["name"] == "bun" and renamed.json["classes"][0]["colour"] == "#123456"
    assert client.delete(f"{BASE}/projects/1/classes/1").json["classes"][0]["retired"]


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
        ("get", "/evaluations/99", None, 404, "there is no evaluation 99"),
        ("get", "/detections/99", None, 404, "there is no detection 99"),
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


def test_pictures_come_in_each_with_an_outcome(client, frames):
    client.post(f"{BASE}/projects", json={"name": "Belt"})
    reply = send(
        client,
        "/projects/1/media",
        (jpeg(frames[0]), "a.jpg"),
        (jpeg(frames[0]), "again.jpg"),
        (io.BytesIO(b"x"), "bad.png"),
        (io.BytesIO(b"x"), "bad.mp4"),
        (io.BytesIO(b""), "none.jpg"),
    )
    outcomes = [(each["name"], each["outcome"]) for each in reply.json["files"]]
    assert outcomes == [
        ("a.jpg", "added"),
        ("again.jpg", "already there"),
        ("bad.png", "refused"),
        ("bad.mp4", "refused"),
        ("none.jpg", "refused"),
    ]
    assert "bad.mp4 is not a clip" in reply.json["files"][3]["message"]
    page = client.get(f"{BASE}/projects/1/pictures").json
    assert page["total"] == 1 and page["pictures"][0]["name"] == "a.jpg" and page["next_after"] is None


@pytest.mark.parametrize("name", ["../../etc/passwd.jpg", "a\n.jpg", "x" * 600 + ".jpg"])
def test_hostile_names_are_refused(client, frames, name):
    client.post(f"{BASE}/projects", json={"name": "Belt"})
    reply = send(client, "/projects/1/media", (jpeg(frames[0]), name))
    assert reply.status_code == 422 or reply.json["files"][0]["name"].count("..") == 0


def test_thumbnails_of_what_was_sent_are_made_in_the_background(client, data, work, queued, frames):
    folder, sessions = data
    client.post(f"{BASE}/projects", json={"name": "belt"})
    send(client, "/projects/1/media", (jpeg(frames[0]), "a.jpg"))
    send(client, "/projects/1/media", (jpeg(frames[1]), "b.jpg"))
    assert len(queued) == 1, "one job looks at both"
    with sessions() as session:
        pictures = session.query(Picture).all()
        assert [each.look for each in pictures] == [None, None]
        gone, kept = pictures
    folder.picture(1, gone.content_hash, ".jpg").unlink()
    work()
    with sessions() as session:
        assert session.get(Picture, kept.id).look is not None and session.get(Picture, gone.id).look is None
    assert folder.thumbnail(1, kept.content_hash).is_file()
    assert client.get(f"{BASE}/pictures/{gone.id}/thumbnail").status_code == 404


def test_pixels_are_cached_by_content(client, labelled):
    reply = client.get(f"{BASE}/pictures/1/file")
    assert reply.status_code == 200 and reply.mimetype == "image/jpeg" and reply.headers["ETag"]
    again = client.get(f"{BASE}/pictures/1/file", headers={"If-None-Match": reply.headers["ETag"]})
    assert again.status_code == 304 and not again.data
    small = client.get(f"{BASE}/pictures/1/thumbnail")
    assert Image.open(io.BytesIO(small.data)).size == (320, 180)


def test_tiff_is_shown_as_jpeg_and_kept_as_it_came(client, data):
    client.post(f"{BASE}/projects", json={"name": "Belt"})
    content = io.BytesIO()
    Image.new("RGB", (40, 30), (200, 100, 50)).save(content, "TIFF")
    original = content.getvalue()
    send(client, "/projects/1/media", (io.BytesIO(original), "scan.tif"))
    shown = client.get(f"{BASE}/pictures/1/file")
    assert shown.mimetype == "image/jpeg" and Image.open(io.BytesIO(shown.data)).size == (40, 30)
    assert [path.read_bytes() for path in data[0].root.rglob("*.tif")] == [original]


def test_stale_labels_get_409_and_both_versions(client, labelled):
    before = client.get(f"{BASE}/pictures/1").json["labels"]
    box = {"class_id": 1, "corners": [1, 2, 30, 40]}
    saved = client.put(
        f"{BASE}/pictures/1/labels", json={"revision": before["revision"], "state": "done", "boxes": [box]}
    )
    assert saved.status_code == 200 and saved.json["labels"]["boxes"][0]["corners"] == [1, 2, 30, 40]
    stale = client.put(
        f"{BASE}/pictures/1/labels", json={"revision": before["revision"], "state": "done", "boxes": []}
    )
    assert stale.status_code == 409 and stale.json["current"]["boxes"][0]["corners"] == [1, 2, 30, 40]
    assert client.get(f"{BASE}/pictures/1").json["labels"] == saved.json["labels"]


@pytest.mark.parametrize("corners", [[1, 2, 1, 5], [0, 0, "NaN", 4], [1, 2, 3]])
def test_unusable_boxes_change_nothing(client, labelled, corners):
    before = client.get(f"{BASE}/pictures/1").json
    body = {
        "revision": before["labels"]["revision"],
        "state": "done",
        "boxes": [{"class_id": 1, "corners": corners}],
    }
    assert client.put(f"{BASE}/pictures/1/labels", json=body).status_code == 422
    assert client.get(f"{BASE}/pictures/1").json == before


def test_parts_bin_and_split(client, labelled):
    assert client.put(f"{BASE}/projects/1/parts", json={"ids": [1, 2], "part": "test"}).json == {"changed": 2}
    assert client.get(f"{BASE}/projects/1/split").json == {
        "training": 2,
        "validation": 2,
        "test": 2,
        "unassigned": 0,
    }
    assert client.put(f"{BASE}/projects/1/bin", json={"ids": [1], "binned": True}).json == {"changed": 1}
    assert client.get(f"{BASE}/projects/1/pictures").json["total"] == 5
    assert client.get(f"{BASE}/projects/1/pictures?binned=true").json["pictures"][0]["id"] == 1
    split = client.put(
        f"{BASE}/projects/1/split", json={"training": 60, "validation": 40, "test": 0, "seed": 2}
    )
    assert split.json == {"training": 3, "validation": 2, "test": 0, "unassigned": 0}
    assert (
        client.put(f"{BASE}/projects/1/split", json={"training": 0, "validation": 0, "test": 0}).status_code
        == 422
    )


@pytest.mark.slow
def test_from_training_to_use(client, labelled, work, frames):
    assert client.get(f"{BASE}/projects/1/plan").json["training"] == 4
    run = client.post(f"{BASE}/projects/1/runs", json={"settings": {"side": 96, "epochs": 2, "batch": 2}})
    assert run.status_code == 202 and run.json["job"]["state"] == "waiting" and not run.json["has_model"]
    assert (
        client.post(f"{BASE}/projects/1/evaluations", json={"run_id": 1, "part": "validation"}).status_code
        == 404
    )
    work()
    detail = client.get(f"{BASE}/runs/1").json
    assert (
        detail["run"]["job"]["state"] == "done" and len(detail["epochs"]) == 2 and detail["run"]["has_model"]
    )
    assert client.get(f"{BASE}/runs/1/model/best").data[:2] == b"PK"
    assert client.post(f"{BASE}/runs/1/resume").status_code == 422
    client.post(f"{BASE}/projects/1/evaluations", json={"run_id": 1, "part": "validation"})
    work()
    evaluation = client.get(f"{BASE}/evaluations/1").json
    assert evaluation["report"]["pictures"] == 2
    wall = client.get(f"{BASE}/evaluations/1/pictures?minimum_score=0.01").json
    row = wall["pictures"][0]
    compared = client.get(f"{BASE}/evaluations/1/pictures/{row['picture_id']}?minimum_score=0.01").json
    assert len(compared["predictions"]) == row["hits"] + row["false_alarms"]
    together = client.get(
        f"{BASE}/evaluations/1/marked?minimum_score=0.01&picture_ids={row['picture_id']}"
    ).json
    size = {key: row[key] for key in ("picture_id", "width", "height")}
    assert together == {"class_names": wall["class_names"], "pictures": [size | compared]}
    assert client.get(f"{BASE}/evaluations/1/marked?picture_ids=999").status_code == 404
    assert client.get(f"{BASE}/evaluations/1/marked").status_code == 422
    assert client.get(f"{BASE}/evaluations/1/pictures?minimum_score=2").status_code == 422
    matrix = client.get(f"{BASE}/evaluations/1/confusion?minimum_score=0.01").json
    counts = np.array(matrix["counts"])
    truths = sum(each["truths"] for each in evaluation["report"]["classes"].values())
    assert counts.shape == (6, 6) and counts[:5].sum() == truths and counts[5, 5] == 0
    row, column = (int(each) for each in np.unravel_index(counts.argmax(), counts.shape))
    url = f"{BASE}/evaluations/1/confusion/cell?minimum_score=0.01&row={row}&column={column}"
    behind = client.get(url).json
    assert behind["total"] == counts[row, column] and len(behind["boxes"]) == min(200, behind["total"])
    box = behind["boxes"][0]
    x1, y1, x2, y2 = box["corners"]
    crop = client.get(f"{BASE}/pictures/{box['picture_id']}/crop?x1={x1}&y1={y1}&x2={x2}&y2={y2}")
    assert crop.mimetype == "image/jpeg"
    for wish in ("precision", "recall", "f1", "price"):
        chosen = client.get(f"{BASE}/evaluations/1/operating?wish={wish}&amount=0.9").json["classes"]
        assert [each["name"] for each in chosen] == matrix["class_names"]
        for each in chosen:
            if each["score"] is not None and wish in ("precision", "recall"):
                assert each[wish] >= 0.9 - 1e-9
    assert client.get(f"{BASE}/evaluations/1/operating?wish=luck").status_code == 422
    stages = client.get(f"{BASE}/projects/1").json["stages"]
    assert stages["runs"] == 1 and stages["last_part"] == "validation"
    started = send(client, "/detections/upload", (jpeg(frames[0]), "a.jpg"), run_id="1", minimum_score="0.01")
    assert started.status_code == 202
    client.post(f"{BASE}/detections", json={"run_id": 1, "pictures": True, "minimum_score": 0.5})
    work()
    found = client.get(f"{BASE}/detections/1").json
    assert found["job"]["state"] == "done" and found["summary"]["copies"] == ["a.jpg"]
    assert client.get(f"{BASE}/detections/1/files/annotated/a.jpg").mimetype == "image/jpeg"
    assert client.get(f"{BASE}/detections/1/files/detections.csv").status_code == 200
    for name in ("../../../avocet.sqlite", "..%2f..%2favocet.sqlite", "input/000000.jpg"):
        assert client.get(f"{BASE}/detections/1/files/{name}").status_code in (404, 400)
    assert client.get(f"{BASE}/detections/2").json["summary"]["pictures"] == 6
    refused = send(client, "/detections/upload", (io.BytesIO(b"x"), "notes.txt"), run_id="1")
    assert refused.status_code == 422 and "notes.txt" in refused.json["detail"]
    assert send(client, "/detections/upload", (jpeg(frames[0]), "a.jpg"), run_id="x").status_code == 422


def test_events_tell_of_jobs_and_epochs(client, labelled, work, monkeypatch):
    monkeypatch.setattr(sys.modules["avocet.web.routes.events"], "LOOK_EVERY", 0.01)
    client.post(f"{BASE}/projects/1/runs", json={"settings": {"side": 96, "epochs": 1, "batch": 4}})
    stream = client.get(f"{BASE}/projects/1/events").response
    parts = iter(stream)
    assert b"retry" in next(parts)
    waiting = next(parts).decode()
    assert waiting.startswith("event: job") and '"state":"waiting"' in waiting
    work()
    seen = "".join(next(parts).decode() for _ in range(2))
    assert '"state":"done"' in seen and "event: epoch" in seen


def test_a_new_stream_tells_only_what_is_news(client, data, labelled, work, monkeypatch):
    events = sys.modules["avocet.web.routes.events"]
    monkeypatch.setattr(events, "LOOK_EVERY", 0.01)
    monkeypatch.setattr(events, "STREAM_SECONDS", 0.1)
    job = client.post(f"{BASE}/projects/1/crop-looks").json["job"]
    work()
    told = b"".join(client.get(f"{BASE}/projects/1/events").response)
    assert b'"state":"done"' in told
    with data[1].begin() as session:
        session.get(Job, job["id"]).ended_at -= 2 * events.LONG_AGO
    assert b"event: job" not in b"".join(client.get(f"{BASE}/projects/1/events").response)
    assert client.get(f"{BASE}/jobs/{job['id']}").json["state"] == "done"
    assert client.get(f"{BASE}/jobs/999").status_code == 404


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

    monkeypatch.setattr("avocet.work.projects.create_project", full)
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
