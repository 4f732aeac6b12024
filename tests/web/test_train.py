"""Train through HTTP: looks ahead, watch pictures, comparing, studies."""

import io
import zipfile

import pytest

from tests.web.conftest import BASE

SMALL = {"side": 96, "epochs": 2, "batch": 2, "passes": 1}


def started(client, url, body):
    reply = client.post(f"{BASE}{url}", json=body)
    assert reply.status_code == 202, reply.json
    return reply.json["job"]


def outcome(client, job):
    found = client.get(f"{BASE}/jobs/{job['id']}").json
    assert found["state"] == "done", found["message"]
    return found["outcome"][found["kind"]]


@pytest.mark.slow
def test_looks_ahead(client, labelled, work):
    asked = {"settings": SMALL}
    jobs = [started(client, f"/projects/1/looks/{look}", asked) for look in ("anchors", "augmented")]
    work()
    anchors, sheet = (outcome(client, job) for job in jobs)
    assert [len(level) for level in anchors["anchors"]].count(3) >= 1
    picture = client.get(f"{BASE}/sheets/{jobs[1]['id']}/11")
    assert picture.mimetype == "image/jpeg" and len(sheet["pictures"]) == 12
    assert client.get(f"{BASE}/sheets/{jobs[1]['id']}/12").status_code == 404
    effect = client.post(
        f"{BASE}/projects/1/anchors/effect", json={"side": 96, "anchors": anchors["anchors"]}
    )
    assert effect.json["mean_iou"] > 0.5
    for bad, said in (
        ({"settings": {"side": 100}}, "settings.side: Input should be a multiple of 32, not 100"),
        (
            {"settings": {"augmentation": {"turn": 90}}},
            "augmentation.turn: Input should be less than or equal to 45, not 90",
        ),
        ({"settings": {"warm_up": 3}}, "settings.warm_up: Input should be less than or equal to 0.5, not 3"),
    ):
        refused = client.post(f"{BASE}/projects/1/looks/anchors", json=bad)
        assert refused.status_code == 422 and said in refused.json["detail"]
    assert client.post(f"{BASE}/projects/1/looks/moods", json={}).status_code == 422


@pytest.mark.slow
def test_a_run_followed_from_start_to_bin(client, labelled, work, one_by_one):
    run = client.post(
        f"{BASE}/projects/1/runs",
        json={"settings": SMALL | {"keep_every": 1}, "name": "First", "start": "shipped"},
    )
    assert run.status_code == 202 and client.get(f"{BASE}/runs/1").status_code == 404
    work()
    assert outcome(client, run.json["job"]) == {"run_id": 1}
    detail = client.get(f"{BASE}/runs/1").json
    assert detail["run"]["settings"]["starting_weights"] == "shipped"
    assert detail["run"]["facts"]["transfer_share"] > 0.9 and detail["hints"] == []
    assert detail["models"] == ["best", "latest", "epoch-00001", "epoch-00002"]
    assert client.get(f"{BASE}/runs/1/model/epoch-00001").data[:2] == b"PK"
    assert client.get(f"{BASE}/runs/1/model/epoch-00009").status_code == 404
    assert client.get(f"{BASE}/runs/1/model/latest.safetensors").status_code == 422
    watch = client.get(f"{BASE}/runs/1/watch").json
    assert watch["epochs"] == [1, 2] and len(watch["pictures"]) == 2 and watch["pictures"][0]["truths"]
    assert len(client.get(f"{BASE}/runs/1/watch/2").json["pictures"]) == 2
    assert client.get(f"{BASE}/runs/1/watch/3").status_code == 404
    tried = client.post(f"{BASE}/runs/1/try", json={"picture_id": 1}).json["job"]
    work()
    assert outcome(client, tried)["epoch"] == 2
    assert "Epoch 2" in client.get(f"{BASE}/runs/1/log").json["lines"][-2]
    assert client.post(f"{BASE}/runs/1/extend", json={"epochs": 1}).status_code == 202
    work()
    assert client.get(f"{BASE}/runs/1").json["epochs"][-1]["epoch"] == 3
    archive = zipfile.ZipFile(io.BytesIO(client.get(f"{BASE}/runs/1/archive").data))
    assert set(archive.namelist()) == {"run.json", "metrics.csv", "log.txt", "best.zip", "latest.zip"}
    changed = client.patch(f"{BASE}/runs/1", json={"name": "Renamed", "note": "good"}).json
    assert (changed["name"], changed["note"]) == ("Renamed", "good")
    client.post(f"{BASE}/projects/1/runs", json={"settings": SMALL | {"batch": 4}})
    one_by_one()
    assert client.post(f"{BASE}/runs/2/try", json={"picture_id": 1}).status_code == 404
    listed = client.get(f"{BASE}/projects/1/runs").json
    assert "batch" in listed["differing"] and "starting_weights" in listed["differing"]
    groups = client.get(f"{BASE}/projects/1/run-groups?by=size").json["groups"]
    assert groups[0]["runs"] == [1] and groups[0]["spread_map"] is None
    assert client.put(f"{BASE}/runs/2/binned", json={"binned": True}).status_code == 422
    assert client.put(f"{BASE}/runs/1/binned", json={"binned": True}).json["binned"]
    assert [each["id"] for each in client.get(f"{BASE}/projects/1/runs").json["runs"]] == [2]
    assert [each["id"] for each in client.get(f"{BASE}/projects/1/runs?binned=true").json["runs"]] == [1]


@pytest.mark.long
@pytest.mark.slow
def test_studies(client, labelled, work, one_by_one):
    asked = {"settings": SMALL, "steps": 20, "seeds": 1}
    study = client.post(f"{BASE}/projects/1/studies", json=asked)
    assert study.status_code == 202
    one_by_one()
    made = client.get(f"{BASE}/projects/1/studies").json["studies"][0]
    assert made["planned"] == 4 and made["verdict"] is None
    client.post(f"{BASE}/jobs/{made['job']['id']}/stop")
    work()
    assert client.get(f"{BASE}/jobs/{made['job']['id']}").json["resumable"]
    assert client.post(f"{BASE}/jobs/{made['job']['id']}/resume").status_code == 202
    work()
    done = client.get(f"{BASE}/projects/1/studies").json["studies"][0]
    assert len(done["results"]) == 4 and len(done["verdict"]["curve"]) == 40
    assert client.post(f"{BASE}/projects/1/studies", json=asked | {"steps": 3}).status_code == 422


def test_the_loss_is_there_step_by_step(judged):
    run = judged.get(f"{BASE}/runs/1").json["run"]
    curve = judged.get(f"{BASE}/runs/1/steps").json
    assert curve["steps_per_epoch"] * run["settings"]["epochs"] == run["job"]["total"]
    assert [step for step, _ in curve["points"]] == list(range(1, run["job"]["total"] + 1))
    assert judged.get(f"{BASE}/runs/99/steps").status_code == 404
    assert 0 < run["minimum_score"] <= 1
