"""Annotation files over HTTP."""

import io
import json

import pytest

from avocet.formats.kinds import FORMATS
from tests.web.conftest import BASE, jpeg, outcome, send


@pytest.fixture
def other(client, labelled, frames):
    """A second project with the same pictures and no labels."""
    client.post(f"{BASE}/projects", json={"name": "Other"})
    for number, frame in enumerate(frames):
        send(client, "/projects/2/media", (jpeg(frame), f"still-{number}.jpg"))
    return 2


def export(client, work, project_id, key):
    """The file of a project's labels."""
    started = client.post(f"{BASE}/projects/{project_id}/exports", json={"format": key})
    assert started.status_code == 202
    job_id = started.json["job"]["id"]
    assert client.get(f"{BASE}/jobs/{job_id}/file").status_code == 404, "not before it is done"
    work()
    return client.get(f"{BASE}/jobs/{job_id}/file")


@pytest.mark.parametrize("key", FORMATS)
@pytest.mark.slow
def test_labels_travel_in_every_format(client, labelled, other, work, key):
    exported = export(client, work, 1, key)
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
    lines = [export(client, work, number, "json-lines").data.splitlines()[1:] for number in (1, 2)]
    # Drawn by hand they stay, where the format can say so; else they come from a file from now on.
    keeps = b'"hand"' if key in ("coco", "json-lines") else b'"imported"'
    assert all(b'"origin": ' + keeps in each for each in lines[1] if b'"corners"' in each)
    assert [each.replace(b'"hand"', keeps) for each in lines[0]] == lines[1]
    undone = client.post(f"{BASE}/projects/2/changes/{taken['outcome']['change_id']}/undo").json
    assert undone["pictures"] == 6 and client.get(f"{BASE}/projects/2").json["stages"]["boxes"] == 0
    assert client.get(f"{BASE}/projects/2/changes").json["changes"][0]["undone"]


def test_boxes_that_look_like_corners_are_asked_about(client, labelled, other, work):
    exported = json.loads(export(client, work, 1, "coco").data)
    for each in exported["annotations"]:
        x, y, wide, high = each["bbox"]
        each["bbox"] = [x, y, x + wide, y + high]
    started = send(client, "/projects/2/annotations", (io.BytesIO(json.dumps(exported).encode()), "t.json"))
    work()
    looked = outcome(client, started.json["job"]["id"])
    asks = looked["outcome"]["asks"]
    boxes = len(exported["annotations"])
    assert f"of {boxes} boxes reach over the border" in asks and "are they corners" in asks
    assert looked["outcome"]["notes"] == []
    taking = client.post(f"{BASE}/annotations/{looked['id']}/take", json={})
    work()
    assert "are they corners" in outcome(client, taking.json["job"]["id"])["message"]
    again = client.post(f"{BASE}/annotations/{looked['id']}/again", json={"corners": True})
    work()
    looked = outcome(client, again.json["job"]["id"])
    assert looked["outcome"]["asks"] == "" and looked["outcome"]["notes"] == []
    client.post(f"{BASE}/annotations/{looked['id']}/take", json={})
    work()
    lines = [export(client, work, number, "csv").data for number in (1, 2)]
    assert lines[0] == lines[1]


def test_a_broken_file_changes_nothing(client, labelled, other, work):
    started = send(client, "/projects/2/annotations", (io.BytesIO(b"{"), "broken.json"))
    work()
    job = client.get(f"{BASE}/jobs/{started.json['job']['id']}").json
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
    assert b'"class": "round"' in export(client, work, 2, "json-lines").data
