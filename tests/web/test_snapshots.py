"""Snapshots over HTTP."""

import io
import zipfile

from tests.web.conftest import BASE, outcome


def test_snapshots(client, labelled, work, one_by_one):
    body = {"name": "First", "note": "before the change", "filter": {"part": "training"}}
    made = client.post(f"{BASE}/projects/1/snapshots", json=body)
    assert made.status_code == 202
    client.post(f"{BASE}/projects/1/snapshots", json={"name": "All"})
    work()
    assert outcome(client, made.json["job"]["id"])["outcome"] == {"snapshot_id": 1}
    assert client.get(f"{BASE}/snapshots/1").json["parts"][0]["pictures"] == 4
    second = client.get(f"{BASE}/snapshots/2").json["snapshot"]
    started = client.post(f"{BASE}/snapshots/{second['id']}/compared/1").json["job"]
    work()
    compared = outcome(client, started["id"])["outcome"]
    assert compared["pictures_added"]["count"] == 2 and compared["pictures_gone"]["names"] == []
    client.patch(f"{BASE}/snapshots/1", json={"name": "Learning", "note": ""})
    listed = client.get(f"{BASE}/projects/1/snapshots").json["snapshots"]
    assert [each["name"] for each in listed] == ["All", "Learning"] and listed[0]["runs"] == 0
    started = client.post(f"{BASE}/snapshots/{second['id']}/archive", json={"format": "voc"}).json["job"]
    assert client.get(f"{BASE}/jobs/{started['id']}/file").status_code == 404
    work()
    file = client.get(f"{BASE}/jobs/{started['id']}/file")
    assert file.headers["Content-Disposition"] == "attachment; filename=All-voc.zip"
    assert "still-0.jpg" in zipfile.ZipFile(io.BytesIO(file.data)).namelist()
    run = {"settings": {"side": 96, "epochs": 1, "batch": 2}, "snapshot_id": 1}
    refused = client.post(f"{BASE}/projects/1/runs", json=run)
    assert refused.status_code == 422 and "validation part" in refused.json["detail"]
    taken = client.post(f"{BASE}/projects/1/runs", json=run | {"snapshot_id": second["id"]})
    assert taken.status_code == 202
    one_by_one()
    assert client.get(f"{BASE}/snapshots/{second['id']}").json["snapshot"]["runs"] == 1
