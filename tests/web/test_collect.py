"""Collect through HTTP: classes, files in and out, snapshots, the audit."""

import io
import zipfile

import pytest

from avocet.formats.kinds import FORMATS
from avocet.web.app import create_app
from tests.conftest import write_coco_set
from tests.web.conftest import BASE, jpeg, send


def outcome(client, job_id):
    """A job's record."""
    jobs = (
        client.get(f"{BASE}/projects/1/jobs").json["jobs"]
        + client.get(f"{BASE}/projects/2/jobs").json["jobs"]
    )
    return next(job for job in jobs if job["id"] == job_id)


@pytest.fixture
def other(client, labelled, frames):
    """A second project with the same pictures and no labels."""
    client.post(f"{BASE}/projects", json={"name": "Other"})
    for number, frame in enumerate(frames):
        send(client, "/projects/2/media", (jpeg(frame), f"still-{number}.jpg"))
    return 2


@pytest.mark.parametrize("key", FORMATS)
def test_labels_travel_in_every_format(client, labelled, other, work, key):
    exported = client.get(f"{BASE}/projects/1/annotations?format={key}")
    name = exported.headers["Content-Disposition"].split("filename=")[1]
    assert name.startswith(f"Belt-{key}.")
    said = client.get(f"{BASE}/projects/1/loss?format={key}").json
    assert said["pictures"] == 6 and said["boxes"] > 0
    started = send(client, "/projects/2/annotations", (io.BytesIO(exported.data), name))
    assert started.status_code == 202
    work()
    looked = outcome(client, started.json["job"]["id"])
    assert looked["state"] == "done", looked
    assert looked["outcome"]["pictures"] == 6 and not looked["outcome"]["problems"]
    assert client.get(f"{BASE}/projects/2").json["stages"]["labelled"] == 0
    taking = client.post(f"{BASE}/annotations/{looked['id']}/take", json={})
    work()
    taken = outcome(client, taking.json["job"]["id"])
    assert taken["outcome"]["boxes"] == said["boxes"], taken
    # The first line names the classes in an order that not every format keeps.
    lines = [
        client.get(f"{BASE}/projects/{number}/annotations?format=json-lines").data.splitlines()[1:]
        for number in (1, 2)
    ]
    assert lines[0] == lines[1]
    undone = client.post(f"{BASE}/projects/2/changes/{taken['outcome']['change_id']}/undo").json
    assert undone["pictures"] == 6 and client.get(f"{BASE}/projects/2").json["stages"]["boxes"] == 0
    assert client.get(f"{BASE}/projects/2/changes").json["changes"][0]["undone"]


def test_a_broken_file_changes_nothing(client, labelled, other, work):
    started = send(client, "/projects/2/annotations", (io.BytesIO(b"{"), "broken.json"))
    work()
    job = outcome(client, started.json["job"]["id"])
    assert job["state"] == "failed" and "broken.json is not JSON" in job["message"]
    refused = client.post(f"{BASE}/annotations/{job['id']}/take", json={})
    assert refused.status_code == 422 and "has not read any labels" in refused.json["detail"]
    assert client.get(f"{BASE}/projects/2").json["stages"]["labelled"] == 0


def test_columns_of_a_table_are_chosen(client, labelled, other, work):
    text = b"Foto;Sorte;l;o;b;h\nstill-0.jpg;roll;10;20;30;40\n"
    started = send(client, "/projects/2/annotations", (io.BytesIO(text), "table.csv"))
    work()
    job = outcome(client, started.json["job"]["id"])
    assert job["outcome"]["columns"] is None
    assert job["outcome"]["table"]["header"] == ["Foto", "Sorte", "l", "o", "b", "h"]
    columns = {"picture": "Foto", "label": "Sorte", "kind": "corner and size", "values": ["l", "o", "b", "h"]}
    again = client.post(f"{BASE}/annotations/{job['id']}/again", json={"columns": columns})
    work()
    job = outcome(client, again.json["job"]["id"])
    assert job["outcome"]["pictures"] == 1 and job["outcome"]["boxes"] == 1
    client.post(f"{BASE}/annotations/{job['id']}/take", json={"targets": {"roll": "round"}})
    work()
    assert b'"class": "round"' in client.get(f"{BASE}/projects/2/annotations?format=json-lines").data


def test_an_archive_brings_pictures_and_then_labels(client, labelled, work, tmp_path, frames):
    client.post(f"{BASE}/projects", json={"name": "Other"})
    truth = write_coco_set(tmp_path / "set", frames[:2])
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w") as opened:
        for path in truth.parent.iterdir():
            opened.write(path, path.name)
    sent = send(client, "/projects/2/media", (io.BytesIO(held.getvalue()), "belt.zip")).json["files"][0]
    assert sent["outcome"] == "archive"
    work()
    job = outcome(client, sent["job_id"])
    assert (job["outcome"]["added"], job["outcome"]["labels"]) == (2, 1)
    looked = client.post(f"{BASE}/annotations/{job['id']}/again", json={}).json["job"]
    work()
    client.post(f"{BASE}/annotations/{looked['id']}/take", json={})
    work()
    stages = client.get(f"{BASE}/projects/2").json["stages"]
    assert stages["labelled"] == 2 and stages["boxes"] == sum(len(frame.boxes) for frame in frames[:2])


def test_folders_of_the_server(data, queued, work, labelled, tmp_path, frames):
    folder, sessions = data
    place = tmp_path / "shelf"
    (place / "day").mkdir(parents=True)
    (place / "day" / "a.jpg").write_bytes(
        jpeg(frames[0].__class__(frames[0].pixels[::-1], [], [], [])).getvalue()
    )
    app = create_app(folder, sessions, lambda job_id, kind: queued.append(job_id), roots=(place,))
    client = app.test_client()
    assert client.get(f"{BASE}/folders").json["folders"] == [
        {"path": str(place), "folders": ["day"], "pictures": 0}
    ]
    assert client.get(f"{BASE}/folders?path={place}/day").json["folders"][0]["pictures"] == 1
    for path in ("/etc", f"{place}/.."):
        assert client.get(f"{BASE}/folders?path={path}").status_code == 404
        refused = client.post(f"{BASE}/projects/1/folders", json={"path": path})
        assert refused.status_code == 404 and "may read" in refused.json["detail"]
    started = client.post(f"{BASE}/projects/1/folders", json={"path": str(place), "copied": False})
    assert started.status_code == 202
    work()
    page = client.get(f"{BASE}/projects/1/pictures?source=shelf/day").json
    assert page["total"] == 1
    assert client.get(f"{BASE}/pictures/{page['pictures'][0]['id']}/file").status_code == 200
    assert client.post(f"{BASE}/jobs/{started.json['job']['id']}/resume").status_code == 422
    (place / "day" / "a.jpg").write_bytes(b"changed")
    gone = client.get(f"{BASE}/pictures/{page['pictures'][0]['id']}/file")
    assert gone.status_code == 422 and "was changed on disk" in gone.json["detail"]


def test_classes_and_attributes(client, labelled):
    url = f"{BASE}/projects/1/classes"
    names = lambda: [each["name"] for each in client.get(url).json["classes"] if not each["retired"]]  # noqa: E731
    before = names()
    pasted = client.post(f"{url}/pasted", json={"text": "bun\nbraid"}).json
    assert names() == [*before, "bun", "braid"]
    client.post(f"{BASE}/projects/1/changes/{pasted['change_id']}/undo")
    ids = [each["id"] for each in client.get(url).json["classes"]]
    client.put(f"{url}/order", json={"ids": ids[::-1]})
    assert names()[0] == "braid"
    merged = client.post(f"{url}/{ids[0]}/merge", json={"into_id": ids[1]}).json
    assert len(names()) == len(ids) - 1
    client.post(f"{BASE}/projects/1/changes/{merged['change_id']}/undo")
    assert len(names()) == len(ids)
    attributes = f"{BASE}/projects/1/attributes"
    body = {"name": "crust", "kind": "choice", "choices": ["pale", "dark"], "class_id": ids[0]}
    made = client.post(attributes, json=body).json["attributes"]
    assert made[-1]["choices"] == ["pale", "dark"] and made[-1]["boxes"] == 0
    assert len(client.delete(f"{attributes}/{made[-1]['id']}").json["attributes"]) == 3
    assert client.post(attributes, json=body | {"class_id": 999}).status_code == 404


def test_tags_orders_and_choices(client, labelled):
    tagged = client.put(f"{BASE}/projects/1/tags", json={"ids": [1, 2], "tag": "glare", "on": True})
    assert tagged.json == {"ids": [1, 2]}
    page = client.get(f"{BASE}/projects/1/pictures?tag=glare&order=boxes&falling=true&limit=1").json
    assert page["total"] == 2 and page["pictures"][0]["tags"] == ["glare"]
    rest = client.get(
        f"{BASE}/projects/1/pictures?tag=glare&order=boxes&falling=true&after={page['next_after']}"
    ).json["pictures"]
    assert len(rest) == 1 and rest[0]["boxes"] <= page["pictures"][0]["boxes"]
    choices = client.get(f"{BASE}/projects/1/choices").json
    assert choices == {"sources": [], "tags": ["glare"], "attributes": ["occluded", "cut off", "ignore"]}


def test_snapshots(client, labelled, work):
    body = {"name": "First", "note": "before the change", "filter": {"part": "training"}}
    made = client.post(f"{BASE}/projects/1/snapshots", json=body)
    assert made.status_code == 201 and made.json["parts"][0]["pictures"] == 4
    second = client.post(f"{BASE}/projects/1/snapshots", json={"name": "All"}).json["snapshot"]
    compared = client.get(f"{BASE}/snapshots/{second['id']}/compared/1").json
    assert len(compared["pictures_added"]) == 2 and compared["pictures_gone"] == []
    client.patch(f"{BASE}/snapshots/1", json={"name": "Learning", "note": ""})
    listed = client.get(f"{BASE}/projects/1/snapshots").json["snapshots"]
    assert [each["name"] for each in listed] == ["All", "Learning"] and listed[0]["runs"] == 0
    started = client.post(f"{BASE}/snapshots/{second['id']}/archive", json={"format": "voc"}).json["job"]
    assert client.get(f"{BASE}/archives/{started['id']}").status_code == 404
    work()
    file = client.get(f"{BASE}/archives/{started['id']}")
    assert file.headers["Content-Disposition"] == "attachment; filename=All-voc.zip"
    assert "still-0.jpg" in zipfile.ZipFile(io.BytesIO(file.data)).namelist()
    run = {"settings": {"side": 96, "epochs": 1, "batch": 2}, "snapshot_id": 1}
    refused = client.post(f"{BASE}/projects/1/runs", json=run)
    assert refused.status_code == 422 and "validation part" in refused.json["detail"]
    taken = client.post(f"{BASE}/projects/1/runs", json=run | {"snapshot_id": second["id"]})
    assert taken.status_code == 202
    assert client.get(f"{BASE}/snapshots/{second['id']}").json["snapshot"]["runs"] == 1


def test_audit(client, labelled, work):
    figures = client.get(f"{BASE}/projects/1/figures?side=320").json
    assert figures["parts"]["training"]["pictures"] == 4 and 0 <= figures["small_at"] <= 1
    ring = next(
        each for each in client.get(f"{BASE}/projects/1/classes").json["classes"] if each["name"] == "ring"
    )
    sheet = client.get(f"{BASE}/projects/1/sheet?class_id={ring['id']}&order=strange").json
    assert sheet["unseen"] == sheet["total"] > 0
    client.post(f"{BASE}/projects/1/crop-looks")
    work()
    sheet = client.get(f"{BASE}/projects/1/sheet?class_id={ring['id']}&order=strange").json
    assert sheet["unseen"] == 0
    crop = sheet["crops"][0]
    x1, y1, x2, y2 = crop["corners"]
    shown = client.get(f"{BASE}/pictures/{crop['picture_id']}/crop?x1={x1}&y1={y1}&x2={x2}&y2={y2}")
    assert shown.mimetype == "image/jpeg" and shown.headers["ETag"]
    changed = client.post(f"{BASE}/projects/1/boxes", json={"ids": [crop["id"]], "class_id": None}).json
    assert changed["changed"] == 1 and changed["change"]["title"] == "1 box deleted"
    findings = client.get(f"{BASE}/projects/1/findings").json
    assert set(findings["counts"]) <= set(findings["titles"])
    key = findings["listed"][0]["key"]
    client.put(f"{BASE}/projects/1/findings", json={"keys": [key], "fine": True})
    assert client.get(f"{BASE}/projects/1/findings").json["fine"] == 1
    assert client.get(f"{BASE}/projects/1/findings?with_fine=true").json["listed"][0]["key"]


def test_tightening(client, labelled, frames):
    truth = frames[0].boxes[0]
    width, height = truth[2:] - truth[:2]
    loose = [truth[0] - 0.1 * width, truth[1] - 0.1 * height, truth[2] + 0.1 * width, truth[3] + 0.1 * height]
    found = client.post(f"{BASE}/pictures/1/tightened", json={"boxes": [loose]}).json["boxes"][0]
    from avocet.core.boxes import iou

    assert iou([found], [truth])[0, 0] > iou([loose], [truth])[0, 0] + 0.1
    bad = client.post(f"{BASE}/pictures/1/tightened", json={"boxes": [[5, 5, 5, 9]]})
    assert bad.status_code == 422 and "has no area" in bad.json["detail"]
