"""The audit over HTTP."""

import pytest

from tests.web.conftest import BASE


@pytest.mark.slow
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
    assert changed["changed"] == 1 and changed["title"] == "1 box deleted"
    findings = client.get(f"{BASE}/projects/1/findings").json
    assert findings["listed"] == [] and not findings["fresh"] and findings["looked_at"] is None
    assert client.post(f"{BASE}/projects/1/findings").status_code == 202
    work()
    findings = client.get(f"{BASE}/projects/1/findings").json
    assert findings["fresh"] and findings["looked_at"]
    assert set(findings["counts"]) <= set(findings["titles"])
    key = findings["listed"][0]["key"]
    counted = sum(findings["counts"].values())
    left = client.put(f"{BASE}/projects/1/findings", json={"keys": [key], "fine": True}).json
    assert sum(left["counts"].values()) == counted - 1 and left["fine"] == 1
    assert client.get(f"{BASE}/projects/1/findings").json["fine"] == 1
    assert client.get(f"{BASE}/projects/1/findings?with_fine=true").json["listed"][0]["key"]
