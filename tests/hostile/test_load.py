"""Sixteen people who label at once, beside a training, an import and an address that answers: no save is lost, each is
quick, and memory stays. ``make soak`` does it for ten minutes and says the figures; the short form is the same in seconds.
"""

import json
import os
import random
import threading
import time

import numpy as np
import psutil
import pytest

from avocet.demo.belt import render_still
from avocet.media.pictures import encode_jpeg
from tests.asking import ask
from tests.conftest import at_length
from tests.hostile.conftest import belt_folder
from tests.servers import address_in, children_of, servers

SOAK = bool(os.environ.get("AVOCET_SOAK"))
PEOPLE = 16
SECONDS = 600 if SOAK else 6
PAUSE = 1.2
"""Seconds between two boxes of one person: each is saved by itself."""

NEW = 400 if SOAK else 30
"""Pictures in the folder that is imported, again and again under other names."""

GROWTH = 1.25
"""Memory at the end, in terms of that after the first quarter."""

PICTURE = encode_jpeg(render_still(40).pixels)

pytestmark = pytest.mark.slow


class Person:
    """Draws box after box on a picture of their own; what was acknowledged is remembered."""

    def __init__(self, api, picture, off):
        self.waits, self.wrong, self.boxes, self.revision = [], [], [], 0
        self._api, self._picture, self._off, self._random = api, picture, off, random.Random(picture)
        self.thread = threading.Thread(target=self._label)

    def _label(self):
        labels = ask(f"{self._api}/pictures/{self._picture}")[1]["labels"]
        self.revision, boxes = labels["revision"], labels["boxes"][:1]
        while not self._off.wait(PAUSE * self._random.uniform(0.5, 1.5)):
            x, y = self._random.uniform(0, 800), self._random.uniform(0, 400)
            new = {**boxes[0], "corners": [x, y, x + 90, y + 80]}
            # Thirty boxes, then the picture is begun anew.
            boxes = [*boxes, new] if len(boxes) < 30 else [new]
            body = {"revision": self.revision, "state": "done", "boxes": boxes, "worked": 1.0}
            begun = time.monotonic()
            status, said = ask(f"{self._api}/pictures/{self._picture}/labels", body, "PUT")
            self.waits.append(time.monotonic() - begun)
            if status != 200:
                self.wrong.append((status, said))
                return
            self.revision, self.boxes = said["labels"]["revision"], [each["corners"] for each in boxes]


@pytest.fixture
def place(tmp_path):
    """A project with a picture for each person, a model, and folders of new pictures."""
    belt_folder(tmp_path, PEOPLE)
    (tmp_path / "shared" / "new").mkdir(parents=True)
    return tmp_path


def new_pictures(folder, turn):
    """Pictures that differ in a comment: whoever makes them takes no time from those that are measured."""
    for number in range(NEW):
        name = f"new-{turn:03d}-{number:03d}"
        comment = b"\xff\xfe" + (2 + len(name)).to_bytes(2) + name.encode()
        (folder / f"{name}.jpg").write_bytes(PICTURE[:2] + comment + PICTURE[2:])


def memory(server):
    """Bytes of the server and of each of its workers."""
    children = map(psutil.Process, children_of(server.pid))
    sizes = {each.name(): each.memory_info().rss for each in children}
    return sizes | {"serve": psutil.Process(server.pid).memory_info().rss}


@at_length
def test_sixteen_people_beside_a_training_an_import_and_an_address(place):
    with servers(place / "data") as start:
        server, line = start("--port", "0", "--folder", str(place / "shared"))
        api = f"{address_in(line)}/api/v1"
        _, address = ask(f"{api}/projects/1/addresses", {"name": "belt", "run_id": 1}, "POST")
        _, key = ask(f"{api}/addresses/{address['id']}/keys", {"name": "line", "per_minute": 100_000}, "POST")
        off, answered, wrong, imported, trained = threading.Event(), [], [], [], []

        def ended(job_id, wait=None):
            """A job once it has ended, or all is over."""
            until = time.monotonic() + (wait or SECONDS)
            while True:
                job = ask(f"{api}/jobs/{job_id}")[1]
                if (
                    job["state"] in ("done", "failed")
                    or time.monotonic() > until
                    or (not wait and off.is_set())
                ):
                    return job
                time.sleep(0.5)

        # The labels as they are before people change them.
        _, frozen = ask(f"{api}/projects/1/snapshots", {"name": "Before"}, "POST")
        snapshot = ended(frozen["job"]["id"], wait=60)["outcome"]["freeze"]["snapshot_id"]

        def call():
            while not off.wait(1.0):
                status, said = ask(
                    f"{api}/addresses/belt/detections", PICTURE, "POST", "image/jpeg",
                    Authorization=f"Bearer {key['key']}",
                )  # fmt: skip
                (answered if status == 200 else wrong).append((status, said))

        def train():
            settings = {"side": 192, "epochs": 4, "batch": 4, "passes": 10}
            while not off.is_set():
                order = {"settings": settings, "snapshot_id": snapshot}
                status, said = ask(f"{api}/projects/1/runs", order, "POST")
                if status != 202:
                    wrong.append((status, said))
                    return
                job = ended(said["job"]["id"], wait=120)
                if job["state"] != "done":
                    wrong.append(job["message"])
                    return
                run = ask(f"{api}/runs/{job['outcome']['start_run']['run_id']}")[1]["run"]
                trained.append(ended(run["job"]["id"])["message"])

        def bring():
            turn = 0
            while not off.is_set():
                folder = place / "shared" / f"new-{turn:03d}"
                folder.mkdir()
                new_pictures(folder, turn)
                status, said = ask(f"{api}/projects/1/folders", {"path": str(folder), "copied": True}, "POST")
                if status != 202:
                    wrong.append((status, said))
                    return
                imported.append(ended(said["job"]["id"])["state"])
                turn += 1

        people = [Person(api, number, off) for number in range(1, PEOPLE + 1)]
        others = [threading.Thread(target=does) for does in (call, train, bring)]
        for each in (*others, *(person.thread for person in people)):
            each.start()
        time.sleep(SECONDS / 4)
        early = memory(server)
        time.sleep(3 * SECONDS / 4)
        late = memory(server)
        off.set()
        for each in (*others, *(person.thread for person in people)):
            each.join(120)
        assert not wrong and not [person.wrong for person in people if person.wrong], wrong[:3]
        for number, person in enumerate(people, start=1):
            labels = ask(f"{api}/pictures/{number}")[1]["labels"]
            assert labels["revision"] == person.revision, "every save that was acknowledged is there"
            assert np.array([each["corners"] for each in labels["boxes"]]) == pytest.approx(
                np.array(person.boxes), abs=0.1
            )
    waits = 1000 * np.array([wait for person in people for wait in person.waits])
    assert answered and len(waits) > PEOPLE
    if SOAK:
        told = {
            "saves": len(waits),
            "p50, p95, p99, most in ms": [
                round(float(each)) for each in np.percentile(waits, [50, 95, 99, 100])
            ],
            "answers of the address": len(answered),
            "imports": len(imported),
            "trainings": len(trained),
            "MB after a quarter": {name: size >> 20 for name, size in early.items()},
            "MB at the end": {name: size >> 20 for name, size in late.items()},
        }
        print(json.dumps(told, indent=1))
        assert set(imported) - {"running", "waiting"} == {"done"}
        assert late["serve"] < GROWTH * early["serve"]
