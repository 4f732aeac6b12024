"""From training to use over HTTP."""

import io

import numpy as np
import pytest

from avocet.work.cluster import asked, joining
from tests.ready import add_trained_run
from tests.web.conftest import BASE, jpeg, send


@pytest.mark.slow
def test_from_training_to_use(client, labelled, work, one_by_one, frames):
    assert client.get(f"{BASE}/projects/1/plan").json["training"] == 4
    started = client.post(f"{BASE}/projects/1/runs", json={"settings": {"side": 96, "epochs": 2, "batch": 2}})
    assert started.status_code == 202 and started.json["job"]["kind"] == "start_run"
    one_by_one()
    run = client.get(f"{BASE}/runs/1").json["run"]
    assert run["job"]["state"] == "waiting" and not run["has_model"]
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


def test_the_cluster_is_offered_only_where_the_server_has_one(client, data, labelled, monkeypatch):
    with data[1].begin() as session:
        run = add_trained_run(session, data[0], labelled).id
    monkeypatch.delenv(asked.CLUSTER, raising=False)
    told = client.get(f"{BASE}/cluster").json
    assert told["address"] is None and "avocet serve --cluster" in told["hint"]
    monkeypatch.setattr(joining, "find_spec", lambda name: None)
    assert "pip install 'avocet[cluster]'" in client.get(f"{BASE}/cluster").json["hint"]
    wanted = {"run_id": run, "pictures": True, "on_cluster": True}
    refused = client.post(f"{BASE}/detections", json=wanted)
    assert refused.status_code == 422 and "works with no cluster" in refused.json["detail"]
    measured = {"run_id": run, "on_cluster": True}
    refused = client.post(f"{BASE}/projects/{labelled}/evaluations", json=measured)
    assert refused.status_code == 422 and "works with no cluster" in refused.json["detail"]
    settings = {"epochs": 1, "augmentation": {"flips": "sideways"}}
    for way in ("on_cluster", "apart"):
        refused = client.post(f"{BASE}/projects/{labelled}/runs", json={"settings": settings, way: True})
        assert refused.status_code == 422 and "works with no cluster" in refused.json["detail"]
    refused = client.post(f"{BASE}/projects/{labelled}/studies", json={"steps": 20, "on_cluster": True})
    assert refused.status_code == 422 and "works with no cluster" in refused.json["detail"]
    monkeypatch.setenv(asked.CLUSTER, "10.0.0.1:6379")
    both = {"settings": settings, "apart": True, "on_cluster": True}
    refused = client.post(f"{BASE}/projects/{labelled}/runs", json=both)
    assert refused.status_code == 422 and "not both" in refused.json["detail"]
    started = client.post(f"{BASE}/projects/{labelled}/runs", json={"settings": settings, "apart": True})
    assert started.status_code == 202
    assert client.get(f"{BASE}/cluster").json == {"address": "10.0.0.1:6379", "hint": ""}
    assert client.post(f"{BASE}/detections", json=wanted).status_code == 202
    started = client.post(f"{BASE}/projects/{labelled}/machines")
    assert started.status_code == 202 and started.json["job"]["kind"] == "look_at_machines"
