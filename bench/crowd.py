"""A writer and a reader on a large project while other things go on: what either has to wait."""

import http.client
import json
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from bench.reading import make

BASE = "/api/v1"
CLIP_MEGABYTES = 1200
STREAMS = 200
RUNS = 200


@dataclass
class Waits:
    """How long requests took, in milliseconds."""

    saves: list[float] = field(default_factory=list)
    reads: list[float] = field(default_factory=list)
    faults: list[str] = field(default_factory=list)
    conflicts: int = 0

    def words(self) -> str:
        shown = []
        for name, times in (("a save", self.saves), ("a GET", self.reads)):
            half, most = np.percentile(times, [50, 95])
            shown.append(f"{name} p50 {half:5.0f} p95 {most:5.0f} most {max(times):5.0f} ms")
        if self.conflicts:
            shown.append(f"{self.conflicts} on a picture just changed")
        return ", ".join(shown) + (f", {len(self.faults)} faults: {self.faults[0]}" if self.faults else "")


class Client:
    """A connection of its own to the server."""

    def __init__(self, port: int) -> None:
        self._port = port
        self._connection = http.client.HTTPConnection("127.0.0.1", port, timeout=120)

    def ask(self, method: str, path: str, body: Any = None) -> tuple[int, bytes]:
        """Status and content of a reply."""
        content = None if body is None else json.dumps(body)
        headers = {"Content-Type": "application/json"} if content else {}
        for again in (False, True):
            try:
                self._connection.request(method, BASE + path, content, headers)
                reply = self._connection.getresponse()
                return reply.status, reply.read()
            except (http.client.RemoteDisconnected, ConnectionError):
                # The server closes a connection that nobody used for some seconds.
                self._connection.close()
                if again:
                    raise
        raise AssertionError

    def json(self, method: str, path: str, body: Any = None) -> Any:
        """The reply, which has to be a good one."""
        status, content = self.ask(method, path, body)
        assert status < 300, (path, status, content[:300])
        return json.loads(content)

    def done(self, job_id: int) -> float:
        """Wait for a job to end; the seconds it took."""
        begun = time.perf_counter()
        while True:
            job = self.json("GET", f"/jobs/{job_id}")
            if job["state"] not in ("waiting", "running"):
                assert job["state"] == "done", job["message"]
                return time.perf_counter() - begun
            time.sleep(0.1)


@contextmanager
def labelling(port: int) -> Iterator[Waits]:
    """Somebody saves labels of one picture after the other, and somebody else looks at pages of the grid."""
    waits, ends = Waits(), threading.Event()

    def save() -> None:
        client, number = Client(port), 1
        while not ends.is_set():
            detail = client.json("GET", f"/pictures/{number}")["labels"]
            body = {"revision": detail["revision"], "state": "done", "boxes": detail["boxes"]}
            begun = time.perf_counter()
            status, content = client.ask("PUT", f"/pictures/{number}/labels", body)
            waits.saves.append(1000 * (time.perf_counter() - begun))
            if status == 409:
                # The other work changed this very picture between the two requests: a page shows both.
                waits.conflicts += 1
            elif status != 200:
                waits.faults.append(f"{status} {content[:120]!r}")
            number += 1
            time.sleep(0.05)

    def read() -> None:
        client, place = Client(port), 0
        while not ends.is_set():
            begun = time.perf_counter()
            client.json("GET", f"/projects/1/pictures?limit=120&counted=false&after={place}")
            waits.reads.append(1000 * (time.perf_counter() - begun))
            place = (place + 1013) % 90_000
            time.sleep(0.05)

    threads = [threading.Thread(target=each, daemon=True) for each in (save, read)]
    for thread in threads:
        thread.start()
    try:
        yield waits
    finally:
        ends.set()
        for thread in threads:
            thread.join()


def upload(port: int, place: Path) -> None:
    """Send a clip of 1.2 GB: a real one, with a box of nothing behind it that readers pass over."""
    from avocet.media.clip_writer import ClipWriter

    path = place / "belt.mp4"
    with ClipWriter(path, 320, 180, 10) as writer:
        for shade in range(40):
            writer.write(np.full((180, 320, 3), 5 * shade, np.uint8))
    padding = CLIP_MEGABYTES * 1_000_000
    with path.open("ab") as opened:
        opened.write(padding.to_bytes(4, "big") + b"free")
        for _ in range(CLIP_MEGABYTES):
            opened.write(bytes(1_000_000))
    reply = send(port, f"{BASE}/projects/1/media", path, "video/mp4")
    assert reply["files"][0]["outcome"] == "clip", reply


def send(port: int, address: str, path: Path, kind: str) -> Any:
    """Send one file as a form does, piece by piece; the reply."""
    mark = "----avocet-bench"
    head = (
        f'--{mark}\r\nContent-Disposition: form-data; name="files"; filename="{path.name}"\r\n'
        f"Content-Type: {kind}\r\n\r\n"
    ).encode()
    tail = f"\r\n--{mark}--\r\n".encode()
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=300)
    connection.putrequest("POST", address)
    connection.putheader("Content-Type", f"multipart/form-data; boundary={mark}")
    connection.putheader("Content-Length", str(len(head) + path.stat().st_size + len(tail)))
    connection.endheaders()
    connection.send(head)
    with path.open("rb") as opened:
        while content := opened.read(1 << 20):
            connection.send(content)
    connection.send(tail)
    return json.loads(connection.getresponse().read())


def streams(port: int) -> list[http.client.HTTPConnection]:
    """Open event streams, as that many pages do."""
    opened = []
    for _ in range(STREAMS):
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        connection.request("GET", f"{BASE}/projects/1/events")
        assert connection.getresponse().status == 200
        opened.append(connection)
    return opened


BARE = {
    "850,000 boxes taken over": "CREATE TABLE bare AS SELECT * FROM box ORDER BY picture_id",
    "50,000 pictures to a part": "UPDATE picture SET part = 'validation' WHERE id > 50000",
    "50,000 pictures to the bin": "UPDATE picture SET binned_at = '2026-01-01' WHERE id > 50000",
    "a class of 240,000 boxes merged": "UPDATE box SET class_id = 3 WHERE class_id = 2",
    "a split": "UPDATE picture SET part = CASE id % 3 WHEN 0 THEN 'test' WHEN 1 THEN 'validation' ELSE 'training' END",
    "a COCO export": "SELECT * FROM box ORDER BY picture_id, position",
    "freezing a snapshot": "SELECT * FROM box ORDER BY picture_id, position",
}
"""Statements over the rows that each kind of work is about, without a way back and with nobody beside."""


def bare_statements(place: Path) -> dict[str, float]:
    """Seconds of each of `BARE`, on a copy of the database."""
    copy = place / "bare.sqlite"
    with sqlite3.connect(place / "avocet.sqlite") as source, sqlite3.connect(copy) as target:
        source.backup(target)
    found = {}
    for name, statement in BARE.items():
        connection = sqlite3.connect(copy)
        begun = time.perf_counter()
        connection.execute(statement).fetchall()
        connection.commit()
        found[name] = time.perf_counter() - begun
        connection.close()
    copy.unlink()
    return found


def crowd(port: int, place: Path, count_queries: Callable[[], int]) -> None:
    """Print what a save and a page of the grid take beside each kind of other work."""
    client = Client(port)
    client.json("GET", "/projects/1")
    time.sleep(8)
    print("beside                         what either waits (wanted: p95 under 100 ms)")
    with labelling(port) as waits:
        time.sleep(6)
    print(f"nothing                        {waits.words()}")
    half = list(range(50_001, 100_001))
    make(place / "truth.json")
    read = send(port, f"{BASE}/projects/1/annotations", place / "truth.json", "application/json")["job"]["id"]
    with labelling(port) as waits:
        seconds = client.done(read)
    print(f"{'a COCO file looked into':30} {waits.words()}; done in {seconds:.0f} s")
    jobs = {
        "850,000 boxes taken over": ("POST", f"/annotations/{read}/take", {"targets": {}, "replace": True}),
        "a look at anchors": ("POST", "/projects/1/looks/anchors", {"settings": {"side": 416}}),
        "looking for mistakes": ("POST", "/projects/1/findings", None),
        "a COCO export": ("POST", "/projects/1/exports", {"format": "coco"}),
        "freezing a snapshot": ("POST", "/projects/1/snapshots", {"name": "belt"}),
        "50,000 pictures to a part": ("PUT", "/projects/1/parts", {"ids": half, "part": "test"}),
        "50,000 pictures tagged": ("PUT", "/projects/1/tags", {"ids": half, "tag": "glare", "on": True}),
        "50,000 pictures to the bin": ("PUT", "/projects/1/bin", {"ids": half, "binned": True}),
        "that undone": ("POST", "/projects/1/changes/{latest}/undo", None),
        "a class of 240,000 boxes merged": ("POST", "/projects/1/classes/2/merge", {"into_id": 3}),
        "that undone as well": ("POST", "/projects/1/changes/{latest}/undo", None),
        "a split": ("PUT", "/projects/1/split", {"training": 80, "validation": 10, "test": 10}),
    }
    took = {}
    for name, (method, path, body) in jobs.items():
        latest = next(iter(client.json("GET", "/projects/1/changes")["changes"]), {"id": 0})["id"]
        with labelling(port) as waits:
            begun = time.perf_counter()
            job = client.json(method, path.format(latest=latest), body)["job"]
            asked = 1000 * (time.perf_counter() - begun)
            seconds = took[name] = client.done(job["id"])
        print(f"{name:30} {waits.words()}; asked in {asked:.0f} ms, done in {seconds:.0f} s")
    for name, seconds in bare_statements(place).items():
        print(
            f"{name:30} {took[name]:5.1f} s, {took[name] / seconds:5.1f} times a bare statement over its rows"
        )
    with labelling(port) as waits:
        upload(port, place)
    print(f"{'a clip of 1.2 GB uploaded':30} {waits.words()}")
    opened = streams(port)
    with labelling(port) as waits:
        time.sleep(6)
    print(f"{f'{STREAMS} event streams':30} {waits.words()}")
    for connection in opened:
        connection.close()
    print("request                        time (wanted: under 1 s)")
    for name, path in (
        ("plan of a run", "/projects/1/plan?side=416"),
        ("plan at another side", "/projects/1/plan?side=640"),
        ("figures of the labels", "/projects/1/figures?side=416"),
        ("what an export loses", "/projects/1/loss?format=voc"),
        ("kept findings", "/projects/1/findings"),
        ("classes with counts", "/projects/1/classes"),
        ("boxes of a class by size", "/projects/1/sheet?class_id=3&order=size"),
        ("boxes of a class by date", "/projects/1/sheet?class_id=3&order=date"),
        ("plan on a snapshot", "/projects/1/plan?side=416&snapshot_id=1"),
        ("a snapshot's parts", "/snapshots/1"),
        ("figures of the rail", "/projects/1"),
    ):
        times = []
        for _ in range(5):
            begun = time.perf_counter()
            client.json("GET", path)
            times.append(time.perf_counter() - begun)
        print(f"{name:30} first {1000 * times[0]:5.0f} ms, then {1000 * np.median(times[1:]):5.0f} ms")
    print(f"{f'{RUNS} runs listed':30} {count_queries()} queries (wanted: a handful)")
