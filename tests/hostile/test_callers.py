"""Many callers at once, some careful and some not: every answer is one, no save is lost, a page is answered meanwhile.

The short form runs with the other tests; ``make soak`` goes on for three minutes and looks at the clock as well.
"""

import http.client
import json
import os
import random
import shutil
import threading
import time
from pathlib import Path

import pytest

from tests.asking import FORM, multipart
from tests.hostile.turning import in_words, pages_turned
from tests.servers import address_in, children_of

BASE = "/api/v1"
CALLERS = 16
SOAK = bool(os.environ.get("AVOCET_SOAK"))
SECONDS = 180 if SOAK else 3
LARGEST_SERVER = 1_000_000
"""Kilobytes."""


class Caller:
    """A connection, and what it was answered."""

    def __init__(self, port, seed):
        self._connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        self._random = random.Random(seed)
        self.wrong, self.waits, self.saved = [], [], {}

    def ask(self, method, path, body=None, kind="application/json"):
        begun = time.monotonic()
        for again in (True, False):
            try:
                self._connection.request(method, path, body, {"Content-Type": kind} if body else {})
                reply = self._connection.getresponse()
                content = reply.read()
                break
            except (http.client.HTTPException, ConnectionError) as error:
                # The server closes a connection that was used for rubbish, or not for a while.
                self._connection.close()
                if not again:
                    self.wrong.append((method, path, str(error)))
                    return 0, b""
        self.waits.append((time.monotonic() - begun, method, path[:80]))
        if reply.status >= 500:
            self.wrong.append((method, path, reply.status, content[:300]))
        return reply.status, content

    def save(self):
        """Read a picture's labels and save one box on it; what was acknowledged is remembered."""
        number = self._random.randint(1, 6)
        status, content = self.ask("GET", f"{BASE}/pictures/{number}")
        if status != 200:
            return
        labels = json.loads(content)["labels"]
        boxes = labels["boxes"][:20]
        body = {"revision": labels["revision"], "state": "done" if boxes else "empty", "boxes": boxes}
        status, content = self.ask("PUT", f"{BASE}/pictures/{number}/labels", json.dumps(body))
        if status == 200:
            revision = json.loads(content)["labels"]["revision"]
            self.saved[number] = max(self.saved.get(number, 0), revision)
        elif status != 409:
            self.wrong.append(("PUT", number, status, content[:300]))

    def careless(self):
        """One of many requests that are of no use."""
        pick = self._random
        number = pick.choice([1, 3, 99, -1, 2**63, 2**70])
        method, path, body = pick.choice([
            ("GET", f"/pictures/{number}/crop?x1=-30000&y1=-30000&x2={number}&y2=30000&side=160", None),
            ("GET", f"/pictures/{number}/thumbnail", None),
            ("GET", f"/projects/1/pictures?limit={number}&after={number}", None),
            ("PUT", f"/pictures/{number}/labels", "[" * pick.randint(1, 90_000)),
            ("PUT", "/pictures/1/labels", json.dumps({"revision": number, "state": "done", "boxes": [{}]})),
            ("POST", "/projects/1/classes", json.dumps({"name": chr(pick.randint(0, 0xD7FF)) * pick.randint(0, 300)})),
            ("POST", f"/jobs/{number}/stop", None),
            ("GET", f"/projects/1/{'%2e%2e/' * 9}etc/passwd", None),
            ("GET", f"/projects/1/annotations?format={'x' * pick.randint(0, 5000)}", None),
        ])  # fmt: skip
        self.ask(method, BASE + path, body)

    def send(self):
        """A file that is none."""
        content = self._random.randbytes(self._random.randint(0, 20_000))
        suffix = self._random.choice([".jpg", ".png", ".mp4", ".zip", ".tar", ".json"])
        place = self._random.choice(["media", "annotations"])
        self.ask("POST", f"{BASE}/projects/1/{place}", multipart("files", f"a{suffix}", content), FORM)

    def work(self, ends):
        while time.monotonic() < ends:
            self._random.choices([self.save, self.careless, self.send], [4, 4, 1])[0]()


@pytest.mark.long
@pytest.mark.slow
def test_sixteen_callers_at_once(serve, tmp_path, made_once):
    shutil.copytree(made_once / "labelled", tmp_path / "data")
    process, line = serve("--port", "0")
    port = int(address_in(line).rsplit(":", 1)[1])
    ends = time.monotonic() + SECONDS
    callers = [Caller(port, seed) for seed in range(CALLERS)]
    threads = [threading.Thread(target=each.work, args=(ends,), daemon=True) for each in callers]
    for thread in threads:
        thread.start()
    with pages_turned(port) as pages:
        for thread in threads:
            thread.join(timeout=SECONDS + 60)
            assert not thread.is_alive(), "a request was never answered"
    page = Caller(port, 99)
    assert [each.wrong for each in [*callers, page] if each.wrong] == []
    kept = {
        number: json.loads(page.ask("GET", f"{BASE}/pictures/{number}")[1])["labels"]["revision"]
        for number in range(1, 7)
    }
    for each in callers:
        assert all(revision <= kept[number] for number, revision in each.saved.items())
    assert sum(len(each.saved) for each in callers) > 0
    peaks = {pid: peak(pid) for pid in [process.pid, *children_of(process.pid)]}
    assert max(peaks.values()) < LARGEST_SERVER, peaks
    if SOAK:
        every = sorted(wait for each in callers for wait in each.waits)
        print(f"{len(every):,} requests, the longest {every[-1]}; {in_words(pages)}; peaks {peaks}")
        assert every[-1][0] < 5 and pages[-1][0] < 0.1


def peak(pid):
    """The most memory that a process ever held, in kilobytes."""
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM"))
