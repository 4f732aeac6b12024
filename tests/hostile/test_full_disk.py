"""A disk that is really full: what is refused is said, what was acknowledged is there, and it goes on once there is room."""

import http.client
import json
import os
import shutil
import sqlite3
import subprocess
import time
from pathlib import Path

import numpy as np
import pytest

from avocet.media.pictures import encode_jpeg
from tests.asking import FORM, multipart
from tests.servers import address_in, servers

pytestmark = pytest.mark.slow


@pytest.fixture
def small_disk(tmp_path):
    """A file system of 212 MB in memory: a server leaves the last 200 to others."""
    place = tmp_path / "disk"
    place.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=212m", "tmpfs", str(place)]
    if os.geteuid() or not shutil.which("mount") or subprocess.run(mount, capture_output=True).returncode:
        pytest.skip("no file system can be mounted here")
    yield place
    for _ in range(50):
        if subprocess.run(["umount", str(place)], capture_output=True).returncode == 0:
            return
        time.sleep(0.1)
    subprocess.run(["umount", "-l", str(place)], check=True)


def ask(port, method, path, body=None, kind="application/json"):
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
    connection.request(method, f"/api/v1{path}", body, {"Content-Type": kind} if body else {})
    reply = connection.getresponse()
    said = json.loads(reply.read() or b"null")
    connection.close()
    return reply.status, said


def send(port, name, content):
    return ask(port, "POST", "/projects/1/media", multipart("files", name, content), FORM)


def test_a_full_disk_refuses_in_words_and_loses_nothing(small_disk, made_once):
    data = small_disk / "data"
    shutil.copytree(made_once / "labelled", data)
    with servers(data) as start:
        server, line = start("--port", "0")
        port = int(address_in(line).rsplit(":", 1)[1])
        taken, refused = [], []
        for number in range(80):
            pixels = np.random.default_rng(number).integers(0, 256, (600, 900, 3), dtype=np.uint8)
            status, said = send(port, f"noise-{number}.jpg", encode_jpeg(pixels))
            outcome = said["files"][0] if "files" in said else said
            if status < 300 and outcome.get("outcome") == "added":
                taken.append(outcome["picture_id"])
            else:
                refused.append((status, outcome.get("message") or outcome["detail"]))
                if len(refused) > 2:
                    break
        assert taken and refused, (taken, refused)
        assert all(status != 500 and "bytes free" in words for status, words in refused), refused
        # The very last bytes are taken as well.
        filler = small_disk / "filler"
        with pytest.raises(OSError), filler.open("wb") as opened:
            while True:
                opened.write(bytes(1 << 16))
                opened.flush()
        labels = ask(port, "GET", "/pictures/1")[1]["labels"]
        wanted = {"revision": labels["revision"], "state": "empty", "boxes": []}
        status, said = ask(port, "PUT", "/pictures/1/labels", json.dumps(wanted))
        if status != 200:
            assert status in (503, 507) and ("space" in said["detail"] or "full" in said["detail"]), said
            assert ask(port, "GET", "/pictures/1")[1]["labels"] == labels, "as it was"
        filler.unlink()
        for number in taken[-3:]:
            ask(port, "GET", f"/pictures/{number}")
        labels = ask(port, "GET", "/pictures/2")[1]["labels"]
        wanted = {"revision": labels["revision"], "state": "empty", "boxes": []}
        assert ask(port, "PUT", "/pictures/2/labels", json.dumps(wanted))[0] == 200, "there is room again"
        server.terminate()
        server.wait(60)
    with sqlite3.connect(data / "avocet.sqlite") as database:
        assert database.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        held = {number for (number,) in database.execute("SELECT id FROM picture")}
        paths = database.execute("SELECT content_hash, suffix FROM picture WHERE path IS NULL").fetchall()
    database.close()
    assert set(taken) <= held
    for digest, suffix in paths:
        assert Path(data, "projects", "1", "pictures", digest[:2], f"{digest}{suffix}").stat().st_size
