"""Ensembles over HTTP."""

from avocet.store.tables import JobState
from avocet.work.models import eight_bits
from avocet.work.train.runs import get_run
from tests.web.conftest import BASE, QUICK


def test_fusion_and_ensembles_over_http(judged, work):
    judged.post(f"{BASE}/projects/1/runs", json={"name": "second", "settings": QUICK | {"seed": 3}})
    work()
    picture = judged.get(f"{BASE}/projects/1/pictures").json["pictures"][0]
    started = judged.post(f"{BASE}/projects/1/fusions", json={"picture_id": picture["id"], "run_ids": [1, 2]})
    assert started.status_code == 202
    work()
    url = f"{BASE}/fusions/{started.json['job']['id']}"
    assert judged.post(url, json={"weights": [1, 2]}).status_code == 200
    assert judged.post(url, json={"weights": [1]}).status_code == 422
    members = [{"run_id": 1, "weight": 1}, {"run_id": 2, "weight": 0.5}]
    made = judged.post(f"{BASE}/projects/1/ensembles", json={"name": "both", "members": members})
    assert made.status_code == 201 and [each["name"] for each in made.json["members"]] == ["quick", "second"]
    assert judged.post(f"{BASE}/projects/1/ensembles", json={"members": members[:1]}).status_code == 422
    assert len(judged.get(f"{BASE}/projects/1/ensembles").json["ensembles"]) == 1
    judged.put(f"{BASE}/ensembles/1/binned", json={"binned": True})
    assert judged.get(f"{BASE}/projects/1/ensembles").json["ensembles"] == []
    assert [e["name"] for e in judged.get(f"{BASE}/projects/1/ensembles?binned=true").json["ensembles"]] == [
        "both"
    ]
    judged.put(f"{BASE}/ensembles/1/binned", json={"binned": False})
    assert len(judged.get(f"{BASE}/projects/1/ensembles").json["ensembles"]) == 1


def test_8_bits_are_tried_and_32_used_again_over_http(judged, work, data, monkeypatch):
    # Neither how quick this machine is just now nor what two pictures tell of precision is to be tested here.
    monkeypatch.setattr(eight_bits, "_side_by_side", lambda *_: ((8.0, 4.0), [2.0] * 40))
    monkeypatch.setattr(eight_bits, "PRECISE", 1.0)
    url = f"{BASE}/runs/1/eight-bits"
    assert judged.get(f"{BASE}/runs/1").json["run"]["eight_bits"] is None
    # Nothing was tried: nothing changes.
    assert judged.delete(url).json["eight_bits"] is None
    assert judged.post(url).status_code == 202
    work()
    run = judged.get(f"{BASE}/runs/1").json["run"]
    tried = run["eight_bits"]
    assert tried["pictures"] == 2 and tried["said"].startswith("8 bits are used") and len(tried["map"]) == 2
    assert "eight_bits" not in run["facts"]
    back = judged.delete(url).json["eight_bits"]
    assert back["used"] is False and back["said"] == "32 bits are used again" and back["map"] == tried["map"]
    # Where they are not used, why stays said.
    monkeypatch.setattr(eight_bits, "PRECISE", -1.0)
    judged.post(url)
    work()
    refused = judged.get(f"{BASE}/runs/1").json["run"]["eight_bits"]
    assert (
        refused["said"].startswith("8 bits are not used") and judged.delete(url).json["eight_bits"] == refused
    )
    assert judged.post(f"{BASE}/runs/99/eight-bits").status_code == 404
    with data[1].begin() as session:
        get_run(session, 1).job.state = JobState.RUNNING
    said = judged.post(url)
    assert said.status_code == 422 and "quick is still training" in said.json["detail"]
