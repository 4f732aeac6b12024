"""Snapshots over HTTP."""

import io
import zipfile

from tests.web.conftest import BASE


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
