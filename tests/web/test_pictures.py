"""Pictures over HTTP."""

import io
import zipfile

import numpy as np
from PIL import Image

from avocet.store.tables import Picture
from avocet.web.app import create_app
from tests.conftest import write_coco_set
from tests.deep import deep_png
from tests.web.conftest import BASE, jpeg, outcome, send


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
    for path in ("/etc", f"{place}/..", f"{place}/{'a' * 300}", f"{place}/day\x00", "\x00"):
        assert client.get(f"{BASE}/folders", query_string={"path": path}).status_code == 404
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
    assert str(place) not in gone.json["detail"], "where it lies on the server is not told"


def test_tags_orders_and_choices(client, labelled):
    tagged = client.put(f"{BASE}/projects/1/tags", json={"ids": [1, 2], "tag": "glare", "on": True})
    assert tagged.json | {"change_id": 1} == {
        "change_id": 1,
        "title": "2 pictures tagged glare",
        "changed": 2,
    }
    page = client.get(f"{BASE}/projects/1/pictures?tag=glare&order=boxes&descending=true&limit=1").json
    assert page["total"] == 2 and page["pictures"][0]["tags"] == ["glare"]
    rest = client.get(
        f"{BASE}/projects/1/pictures?tag=glare&order=boxes&descending=true&after={page['next_after']}"
    ).json["pictures"]
    assert len(rest) == 1 and rest[0]["boxes"] <= page["pictures"][0]["boxes"]
    choices = client.get(f"{BASE}/projects/1/choices").json
    assert choices == {"sources": [], "tags": ["glare"], "attributes": ["occluded", "cut off", "ignore"]}


def test_tightening(client, labelled, frames):
    truth = frames[0].boxes[0]
    width, height = truth[2:] - truth[:2]
    loose = [truth[0] - 0.1 * width, truth[1] - 0.1 * height, truth[2] + 0.1 * width, truth[3] + 0.1 * height]
    found = client.post(f"{BASE}/pictures/1/tightened", json={"boxes": [loose]}).json["boxes"][0]
    from avocet.core.boxes import iou

    assert iou([found], [truth])[0, 0] > iou([loose], [truth])[0, 0] + 0.1
    bad = client.post(f"{BASE}/pictures/1/tightened", json={"boxes": [[5, 5, 5, 9]]})
    assert bad.status_code == 422 and "has no area" in bad.json["detail"]


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


def test_parts_bin_and_split(client, labelled, work):
    moved = client.put(f"{BASE}/projects/1/parts", json={"ids": [1, 2], "part": "test"}).json
    assert moved["title"] == "2 pictures moved to test"
    assert client.get(f"{BASE}/projects/1/split").json == {
        "training": 2,
        "validation": 2,
        "test": 2,
        "unassigned": 0,
        "wholes": 6,
        "whole_clips": 6,
    }
    binned = client.put(f"{BASE}/projects/1/bin", json={"ids": [1], "binned": True}).json
    assert binned["title"] == "1 picture moved to the bin" and binned["changed"] == 1
    assert client.get(f"{BASE}/projects/1/pictures").json["total"] == 5
    assert client.get(f"{BASE}/projects/1/pictures?binned=true").json["pictures"][0]["id"] == 1
    split = client.put(
        f"{BASE}/projects/1/split", json={"training": 60, "validation": 40, "test": 0, "seed": 2}
    )
    assert split.status_code == 202
    work()
    done = client.get(f"{BASE}/jobs/{split.json['job']['id']}").json["outcome"]["split_pictures"]
    assert done["labelled"] == {"training": 3, "validation": 2, "test": 0, "unassigned": 0}
    assert client.post(f"{BASE}/projects/1/changes/{done['change_id']}/undo").status_code == 200
    assert client.get(f"{BASE}/projects/1/split").json["test"] == 1
    assert (
        client.put(f"{BASE}/projects/1/split", json={"training": 0, "validation": 0, "test": 0}).status_code
        == 422
    )


def test_the_white_of_deep_pictures_is_told_and_changed(client, tmp_path):
    client.post(f"{BASE}/projects", json={"name": "Belt"})
    white = f"{BASE}/projects/1/white"
    assert client.get(white).json["pictures"] == 0
    for name, top in (("dark.png", 700), ("bright.png", 4000)):
        content = deep_png((np.linspace(0, 1, 900).reshape(30, 30) * top).astype(np.uint16))
        send(client, "/projects/1/media", (io.BytesIO(content), name))
    assert client.get(white).json == {
        "pictures": 2, "declared": 0, "whites": [4095], "of_set": 4095, "chosen": None,
    }  # fmt: skip
    shown = client.get(f"{BASE}/pictures/1/file")
    assert shown.headers["Cache-Control"] == "private, no-cache" and shown.content_type == "image/jpeg"
    assert client.put(white, json={"white": 1023}).json["whites"] == [1023]
    (dark, _) = client.get(f"{BASE}/projects/1/pictures").json["pictures"]
    assert dark["white"] == 1023
    again = client.get(f"{BASE}/pictures/1/file", headers={"If-None-Match": shown.headers["ETag"]})
    assert again.status_code == 200 and again.data != shown.data
    assert client.put(white, json={"white": None}).json["whites"] == [4095]
    refused = client.put(white, json={"white": 0})
    assert refused.status_code == 422 and "white must be above 0" in refused.json["detail"]
    assert client.put(f"{BASE}/projects/9/white", json={"white": 255}).status_code == 404
