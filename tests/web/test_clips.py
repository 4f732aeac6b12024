"""Clips over HTTP: their frames, the objects on them, and work that is handed over."""

import io
import json

import numpy as np
import pytest
from PIL import Image

from avocet.media.clip_writer import ClipWriter
from avocet.work.clips.clips import add_clip
from tests.web.conftest import BASE, send


@pytest.fixture
def clip(data, labelled, tmp_path):
    """Twenty frames, each a little brighter; its number."""
    folder, sessions = data
    path = tmp_path / "belt.mp4"
    with ClipWriter(path, 64, 48, 10) as writer:
        for number in range(20):
            writer.write(np.full((48, 64, 3), 10 * number + 20, np.uint8))
    with sessions.begin() as session:
        return add_clip(session, folder, labelled, path, "belt.mp4").id


TRACK = {
    "class_id": 1,
    "spans": [[0, 9]],
    "sets": [{"frame": 0, "corners": [1, 2, 21, 22]}, {"frame": 9, "corners": [19, 2, 39, 22]}],
}


def save(client, clip, *changes):
    rows = [{"number": number, "revision": revision, "track": track} for number, revision, track in changes]
    return client.post(f"{BASE}/clips/{clip}/tracks", json={"changes": rows})


def test_frames_one_by_one(client, clip):
    detail = client.get(f"{BASE}/clips/{clip}").json
    assert (detail["width"], detail["height"], len(detail["times"])) == (64, 48, 20)
    assert detail["times"][3] == pytest.approx(0.3)
    for number in (7, 0, 19):
        reply = client.get(f"{BASE}/clips/{clip}/frames/{number}")
        shown = np.asarray(Image.open(io.BytesIO(reply.data)))
        assert shown.shape == (48, 64, 3) and shown.mean() == pytest.approx(10 * number + 20, abs=6)
    tag = {"If-None-Match": reply.headers["ETag"]}
    assert client.get(f"{BASE}/clips/{clip}/frames/19", headers=tag).status_code == 304
    small = client.get(f"{BASE}/clips/{clip}/frames/3?width=32")
    assert Image.open(io.BytesIO(small.data)).size == (32, 24)
    missing = client.get(f"{BASE}/clips/{clip}/frames/20")
    assert missing.status_code == 422 and "frames 0 to 19, not 20" in missing.json["detail"]
    assert client.get(f"{BASE}/clips/99/frames/0").status_code == 404


def test_objects_are_saved_and_stale_ones_get_all_that_is_there(client, clip, labelled):
    saved = save(client, clip, (1, 0, TRACK)).json["tracks"]
    assert [(each["number"], each["revision"], each["standing"]) for each in saved] == [(1, 1, "kept")]
    assert saved[0]["sets"][0] == {"frame": 0, "corners": [1, 2, 21, 22], "held": False, "origin": "hand"}
    stale = save(client, clip, (1, 0, TRACK), (2, 0, TRACK))
    assert stale.status_code == 409
    assert [each["number"] for each in stale.json["current"]["tracks"]] == [1]
    wrong = save(client, clip, (2, 0, TRACK | {"sets": [{"frame": 30, "corners": [0, 0, 5, 5]}]}))
    assert wrong.status_code == 422 and "frame 30; the clip has 0 to 19" in wrong.json["detail"]
    assert save(client, clip, (1, 1, None)).json == {"tracks": [], "time": None, "timed": 0}
    row = client.get(f"{BASE}/projects/{labelled}/clips").json["clips"][0]
    assert (row["name"], row["objects"], row["proposed"], row["pictures"]) == ("belt.mp4", 0, 0, 0)


@pytest.mark.slow
def test_work_on_a_clip_is_handed_over(client, clip, work, labelled):
    save(client, clip, (1, 0, TRACK))

    def outcome(reply):
        assert reply.status_code == 202, reply.data
        work()
        job = client.get(f"{BASE}/jobs/{reply.json['job']['id']}").json
        assert job["state"] == "done", job["message"]
        return job["id"], job["outcome"][job["kind"]]

    url = f"{BASE}/clips/{clip}"
    planned = outcome(client.post(f"{url}/plans", json={"per_second": 5, "first": 1}))[1]
    assert planned == {"frames": list(range(1, 20, 2))}
    taken = outcome(client.post(f"{url}/frames", json={"per_second": 5, "first": 1, "finished": True}))[1]
    assert (taken["added"], taken["boxes"]) == (10, 5)
    assert client.get(f"{BASE}/projects/{labelled}/clips").json["clips"][0]["pictures"] == 10
    job_id, told = outcome(client.post(f"{url}/exports", json={"format": "coco"}))
    assert (told["pictures"], told["boxes"], told["lost"]) == (20, 10, [])
    content = client.get(f"{BASE}/jobs/{job_id}/file").data
    back = outcome(send(client, f"/clips/{clip}/taken", (io.BytesIO(content), "labels.json")))[1]
    assert (back["tracks"], back["boxes"]) == (1, 10)
    assert len(client.get(f"{url}/tracks").json["tracks"]) == 2
    document = json.loads(content)
    for each in document["annotations"]:
        x, y, width, height = each["bbox"]
        each["bbox"] = [x + 20, y + 22, x + width + 20, y + height + 22]
    cornered = json.dumps(document).encode()
    answered = [
        outcome(send(client, f"/clips/{clip}/taken{said}", (io.BytesIO(cornered), "labels.json")))[1]
        for said in ("", "?corners=true")
    ]
    assert "are they corners" in answered[0]["asks"] and answered[0]["tracks"] == 0
    assert (answered[1]["asks"], answered[1]["tracks"], answered[1]["boxes"]) == ("", 1, 10)
    first, *_, last = client.get(f"{url}/tracks").json["tracks"]
    moved = [each + way for each, way in zip(first["sets"][0]["corners"], (20, 22, 20, 22), strict=True)]
    assert last["sets"][0]["corners"] == pytest.approx(moved, abs=0.01)
    carried = outcome(
        client.post(f"{url}/carried", json={"frame": 2, "boxes": [{"number": 1, "box": [5, 5, 25, 25]}]})
    )[1]
    assert carried["objects"][0]["number"] == 1
    for body, words in (
        ({"frame": 2, "to": 2, "boxes": [{"number": 1, "box": [5, 5, 25, 25]}]}, "no frame between"),
        ({"frame": 2, "boxes": []}, "boxes"),
    ):
        refused = client.post(f"{url}/carried", json=body)
        assert refused.status_code == 422 and words in refused.json["detail"]
    assert client.post(f"{url}/proposed", json={"run_id": 99}).status_code == 404
