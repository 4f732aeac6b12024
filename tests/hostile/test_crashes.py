"""Kills at any moment: of the server, of its workers, of both, while people label, send, train, measure and detect.

Afterwards every save that was acknowledged is there, no file is half, the database is whole, every job was resumed or
could be started again, and what came out is what came out of an undisturbed run. ``make soak`` does it 200 times.
"""

import hashlib
import json
import os
import random
import shutil
import signal
import sqlite3
import threading
import time

import numpy as np
import pytest

from avocet.demo.belt import MovingBelt, render_still
from avocet.files import is_unfinished
from avocet.media.clip_writer import ClipWriter
from avocet.media.pictures import encode_jpeg
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.work.clips.clips import add_clip
from tests.asking import FORM, Away, ask, multipart
from tests.hostile.conftest import belt_folder
from tests.servers import address_in, children_of, servers
from tests.waiting import wait_for

SOAK = bool(os.environ.get("AVOCET_SOAK"))
KILLS = 200 if SOAK else 5
SEED = 11
NEW = 40
"""Pictures in the folder that is imported."""

SMALL = {"size": "stint", "side": 96, "epochs": 6, "batch": 2, "passes": 1, "seed": 3}

pytestmark = pytest.mark.slow


class People:
    """Somebody who labels, somebody who sends pictures, a program that calls an address; until they are told to end."""

    def __init__(self, place, key):
        self.api, self._place, self._key = "", place, key
        self.saved, self.sent, self.answered, self.wrong = {}, {}, 0, []
        self._counter = 0
        self._off = threading.Event()
        self._threads = [
            threading.Thread(target=self._again, args=(does,), daemon=True)
            for does in (self._label, self._send, self._call, self._drop)
        ]
        self.dropped = 0

    def begin(self):
        for each in self._threads:
            each.start()

    def end(self):
        self._off.set()
        for each in self._threads:
            each.join(60)

    def _again(self, does):
        while not self._off.is_set():
            try:
                does()
            except Away:
                time.sleep(0.05)
            except Exception as error:
                self.wrong.append(f"{does.__name__}: {error!r}")
                return

    def _label(self):
        """One picture after the other gets a box that no other save has."""
        number = 1 + self._counter % 6
        _, detail = ask(f"{self.api}/pictures/{number}")
        labels = detail["labels"]
        self._counter += 1
        box = {
            "class_id": 1, "corners": [self._counter / 100, 10, 400, 300], "crowd": False, "attributes": {},
            "track": None,
        }  # fmt: skip
        body = {"revision": labels["revision"], "state": "done", "boxes": [box]}
        status, said = ask(f"{self.api}/pictures/{number}/labels", body, "PUT")
        if status == 200:
            self.saved[number] = (said["labels"]["revision"], box["corners"])
        elif status >= 500:
            self.wrong.append(f"save {status} {said}")

    def _send(self):
        """A picture that no other is like."""
        pixels = np.random.default_rng(1000 + len(self.sent)).integers(0, 256, (48, 64, 3), dtype=np.uint8)
        content, name = encode_jpeg(pixels), f"sent-{len(self.sent):04d}.jpg"
        status, said = ask(f"{self.api}/projects/1/media", multipart("files", name, content), "POST", FORM)
        if status in (200, 202) and said["files"][0]["outcome"] in ("added", "already there"):
            self.sent[name] = hashlib.sha256(content).hexdigest()
        elif status >= 500:
            self.wrong.append(f"send {status} {said}")
        time.sleep(0.05)

    def _call(self):
        status, said = ask(
            f"{self.api}/addresses/belt/detections", PICTURE, "POST", "image/jpeg",
            Authorization=f"Bearer {self._key}",
        )  # fmt: skip
        if status == 200:
            self.answered += 1
        elif status != 503:
            self.wrong.append(f"call {status} {said}")
        time.sleep(0.05)

    def _drop(self):
        """A picture into the watched folder, now and then."""
        whole = self._place / "shared" / f"dropped-{self.dropped:04d}.jpg"
        whole.write_bytes(PICTURE)
        whole.rename(self._place / "shared" / "watched" / whole.name)
        self.dropped += 1
        self._off.wait(1.0)


PICTURE = encode_jpeg(render_still(40).pixels)


@pytest.fixture
def place(tmp_path):
    """A project with labels, a model and a clip, and folders that the server may read."""
    belt = MovingBelt(3, 60)
    with ClipWriter(tmp_path / "belt.mp4", 960, 540, 25) as writer:
        for number in range(60):
            writer.write(belt.frame(number).pixels)
    folder = belt_folder(tmp_path)
    sessions = open_database(folder.database)
    with sessions.begin() as session:
        add_clip(session, folder, 1, tmp_path / "belt.mp4", "belt.mp4")
    sessions.kw["bind"].dispose()
    for name in ("watched", "results", "new"):
        (tmp_path / "shared" / name).mkdir(parents=True)
    for number in range(NEW):
        pixels = np.random.default_rng(number).integers(0, 256, (540, 960, 3), dtype=np.uint8)
        (tmp_path / "shared" / "new" / f"new-{number:03d}.jpg").write_bytes(encode_jpeg(pixels))
    return tmp_path


ENDED = ("done", "failed", "stopped", "interrupted")


class Work:
    """Long work that is started, and resumed after each kill until it is done."""

    def __init__(self, snapshot):
        self._snapshot = snapshot
        self.made, self.run = {}, None
        self._random = random.Random(SEED)

    def start(self, api):
        """Start what is not there yet; who is not answered starts it again later."""
        orders = {
            "train": (f"{api}/projects/1/runs", {
                "snapshot_id": self._snapshot, "settings": SMALL, "start": "shipped", "name": "Disturbed",
            }),
            "evaluate": (f"{api}/projects/1/evaluations", {"run_id": 1, "part": "validation"}),
            "detect": (f"{api}/detections", {"run_id": 1, "clip_id": 1, "copies": "boxes", "crops": True}),
            "folder": (f"{api}/projects/1/folders", {"path": None, "copied": True}),
        }  # fmt: skip
        # In any order: what comes first is hit most.
        for name in self._random.sample(list(orders), len(orders)):
            url, body = orders[name]
            if name in self.made:
                continue
            if name == "folder":
                body = {**body, "path": str(self.shared / "new")}
            status, said = ask(url, body, "POST")
            assert status == 202, (name, said)
            self.made[name] = (said.get("job") or said)["id"]

    def settle(self, api):
        """Resume what was interrupted, or start it again; whether all is done."""
        done = len(self.made) == 4
        for name, job_id in list(self.made.items()):
            _, job = ask(f"{api}/jobs/{job_id}")
            if name == "train" and job["kind"] == "start_run" and job["state"] == "done":
                # What was started is a job of its own.
                self.run = job["outcome"]["start_run"]["run_id"]
                job = ask(f"{api}/runs/{self.run}")[1]["run"]["job"]
                self.made[name] = job_id = job["id"]
            if job["state"] == "done":
                continue
            done = False
            assert job["state"] != "failed", (name, job["message"])
            if job["state"] == "interrupted":
                whole = f"jobs/{job_id}" if job["kind"] != "train" else f"runs/{self.run}"
                status, said = ask(f"{api}/{whole}/resume", None, "POST")
                if status == 202:
                    self.made[name] = said["job"]["id"]
                else:
                    # It keeps nothing, and is started again.
                    del self.made[name]
        self.start(api)
        return done


def outputs(data, api, work):
    """What came of the long work, but for times and numbers of records."""
    _, runs = ask(f"{api}/projects/1/runs")
    _, evaluations = ask(f"{api}/projects/1/evaluations")
    _, detections = ask(f"{api}/projects/1/detections")
    of = {
        "run": next(each for each in runs["runs"] if each["job"]["id"] == work.made["train"]),
        "evaluation": next(
            each for each in evaluations["evaluations"] if each["job"]["id"] == work.made["evaluate"]
        ),
        "detection": next(
            each for each in detections["detections"] if each["job"]["id"] == work.made["detect"]
        ),
    }
    _, run = ask(f"{api}/runs/{of['run']['id']}")
    _, evaluation = ask(f"{api}/evaluations/{of['evaluation']['id']}")
    found = DataFolder(data).detection(1, of["detection"]["id"])
    model = DataFolder(data).run(1, of["run"]["id"]) / "latest.zip"
    return {
        "epochs": [(each["epoch"], each["box"], each["validation"]) for each in run["epochs"]],
        "weights": hashlib.sha256(model.read_bytes()).hexdigest(),
        "figures": {name: evaluation["report"][name] for name in ("map", "map50", "classes", "mistakes")},
        "record": (found / "detections.jsonl").read_bytes(),
        "crops": {each.name: each.read_bytes() for each in (found / "crops").iterdir()},
        "objects": (found / "objects.csv").read_bytes(),
    }


def victims(server, which):
    """The processes that are killed."""
    workers = children_of(server.pid)
    return {"server": [server.pid], "workers": workers, "both": [server.pid, *workers]}[which]


@pytest.mark.long
def test_killed_at_any_moment_nothing_is_lost(place):
    data, generator = place / "data", random.Random(SEED)
    with servers(data) as start:
        given = ("--port", "0", "--folder", str(place / "shared"))
        server, line = start(*given)
        api = f"{address_in(line)}/api/v1"
        _, address = ask(f"{api}/projects/1/addresses", {"name": "belt", "run_id": 1}, "POST")
        _, key = ask(f"{api}/addresses/{address['id']}/keys", {"name": "line", "per_minute": 100_000}, "POST")
        watched = {
            "run_id": 1,
            "watched": str(place / "shared" / "watched"),
            "out": str(place / "shared" / "results"),
        }
        assert ask(f"{api}/projects/1/live", watched, "POST")[0] == 202
        # First undisturbed, on labels that do not change any more: they are frozen.
        _, frozen = ask(f"{api}/projects/1/snapshots", {"name": "As it was"}, "POST")
        job = frozen["job"]["id"]
        wait_for(lambda: ask(f"{api}/jobs/{job}")[1]["state"] == "done", "the snapshot")
        snapshot = ask(f"{api}/jobs/{job}")[1]["outcome"]["freeze"]["snapshot_id"]
        calm = Work(snapshot)
        calm.shared = place / "shared"
        wait_for(lambda: calm.settle(api), "the undisturbed work", 240)
        expected = outputs(data, api, calm)

        people, work = People(place, key["key"]), Work(snapshot)
        work.shared = place / "shared"
        people.api = api
        people.begin()
        killed = {"server": 0, "workers": 0, "both": 0}
        for _ in range(KILLS):
            try:
                if work.settle(api):
                    work.made.clear()
                    work.settle(api)
            except Away:
                pass
            time.sleep(generator.uniform(0.2, 4.0 if SOAK else 2.5))
            which = generator.choice(list(killed))
            for pid in victims(server, which):
                try:
                    os.kill(pid, signal.SIGKILL)
                except ProcessLookupError:
                    continue
            killed[which] += 1
            if which != "workers":
                server.wait(60)
                # Workers end with their server, within a second or two; a new server waits for none of them.
                server, line = start(*given)
                api = people.api = f"{address_in(line)}/api/v1"
        wait_for(lambda: settled(work, api), "all work to be done", 300)
        people.end()
        assert not people.wrong, people.wrong[:3]
        assert outputs(data, api, work) == expected
        results = place / "shared" / "results"
        names = {f"dropped-{number:04d}" for number in range(people.dropped)}
        # A backlog of hundreds takes its time.
        wait_for(lambda: looked_at(results) == names, "each dropped picture", 300)
        check_labels(api, people)
        server.terminate()
        server.wait(60)
    check_files(data, people)
    assert people.answered and people.sent and len(people.saved) == 6
    if SOAK:
        print(f"{killed}, {people._counter} saves, {len(people.sent)} pictures, {people.answered} calls")


def looked_at(results):
    return {each.name.split(".")[0] for each in results.glob("*.json")}


def settled(work, api):
    try:
        return work.settle(api)
    except Away:
        return False


def check_labels(api, people):
    """Every save that was acknowledged is there, unless a later one is."""
    for number, (revision, corners) in people.saved.items():
        labels = ask(f"{api}/pictures/{number}")[1]["labels"]
        assert labels["revision"] >= revision
        if labels["revision"] == revision:
            assert labels["boxes"][0]["corners"] == corners


def check_files(data, people):
    """The database is whole, every file is what its record says, and nothing is half."""
    folder = DataFolder(data)
    with sqlite3.connect(folder.database) as database:
        assert database.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        assert not database.execute("PRAGMA foreign_key_check").fetchall()
        rows = database.execute("SELECT name, content_hash, suffix, path FROM picture").fetchall()
        states = dict(database.execute("SELECT state, count(*) FROM job GROUP BY state").fetchall())
    database.close()
    assert set(states) <= {"done", "interrupted", "running"}, states
    held = {name: digest for name, digest, _, path in rows if path is None}
    assert people.sent.items() <= held.items(), "every picture that was acknowledged"
    assert len({name for name in held if name.startswith("new-")}) == NEW
    assert len(held) == len(set(held.values())), "none twice"
    for name, digest, suffix, path in rows:
        if path is None:
            content = folder.picture(1, digest, suffix).read_bytes()
            assert hashlib.sha256(content).hexdigest() == digest, name
    # What a kill left half written is swept by the next server, once it is old enough to be nobody's.
    for path in folder.root.rglob("*"):
        if path.is_file() and not is_unfinished(path.name) and path.suffix in (".zip", ".json"):
            if path.suffix == ".json":
                json.loads(path.read_text())
            else:
                shutil.unpack_archive(path, data.parent / "unpacked")
