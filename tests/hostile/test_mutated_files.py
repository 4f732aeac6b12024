"""Whole files with something changed in them, through every door that takes files: each is taken or refused in words.

Afterwards the server is the same process, no job failed for a reason that nobody foresaw, memory has stayed, nothing lies
outside the data folder, and a whole file is taken as before. ``make soak`` sends 10,000.
"""

import io
import json
import os
import random
import tarfile
import threading
import time
import zipfile
from collections import Counter

import numpy as np
import psutil
import pytest
from PIL import Image
from sqlalchemy import select

from avocet.demo.belt import render_still
from avocet.formats.kinds import FORMATS
from avocet.media.clip_writer import ClipWriter
from avocet.media.pictures import encode_jpeg
from avocet.store.database import open_database
from avocet.store.tables import Job, JobState
from avocet.work.exchange.written import export_record, file_of_record
from tests.asking import FORM, Away, ask, multipart
from tests.hostile.conftest import belt_folder
from tests.hostile.turning import in_words, pages_turned
from tests.ready import trained_bundle
from tests.servers import address_in, children_of, servers
from tests.waiting import wait_for

SOAK = bool(os.environ.get("AVOCET_SOAK"))
FILES = 10_000 if SOAK else 80
SENDERS = 2
LARGEST = 1_500
"""Megabytes of the server, or of a worker that holds no network."""


def whole_files(place, session, project_id):
    """Files of every kind that is taken: what it is, its name and its content."""
    small = Image.fromarray(render_still(3).pixels).resize((192, 108))
    made = []
    for kind in ("JPEG", "PNG", "WEBP", "BMP", "TIFF"):
        held = io.BytesIO()
        small.save(held, kind, **({"exif": small.getexif()} if kind == "JPEG" else {}))
        made.append(("picture", f"still.{kind.lower()}", held.getvalue()))
    for suffix in ("mp4", "mkv"):
        path = place / f"belt.{suffix}"
        with ClipWriter(path, 96, 64, 10) as writer:
            for number in range(6):
                writer.write(np.full((64, 96, 3), 40 * number, np.uint8))
        made.append(("clip", path.name, path.read_bytes()))
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("more/still.jpg", made[0][2])
        archive.writestr("still.png", made[1][2])
    made.append(("archive", "stills.zip", held.getvalue()))
    held = io.BytesIO()
    with tarfile.open(fileobj=held, mode="w:gz") as archive:
        entry = tarfile.TarInfo("still.jpg")
        entry.size = len(made[0][2])
        archive.addfile(entry, io.BytesIO(made[0][2]))
    made.append(("archive", "stills.tar.gz", held.getvalue()))
    record = export_record(session, project_id)
    for form in FORMATS.values():
        content, name = file_of_record(form, record)
        made.append(("labels", name, content))
    found = [{"image_id": 1, "category_id": 1, "bbox": [10, 20, 30, 40], "score": 0.5}]
    made.append(("detections", "found.json", json.dumps(found).encode()))
    made.append(("model", "model.zip", trained_bundle()))
    return made


def mutated(content, draw):
    """The same with one to four things changed: bits, lengths, whole stretches, numbers in text."""
    changed = bytearray(content)
    for _ in range(draw.randint(1, 4)):
        if not changed:
            break
        # Most of what is read first lies at the beginning, and at the end of archives.
        reach = draw.choice([min(len(changed), 64), min(len(changed), 600), len(changed)])
        at = draw.randrange(reach) if draw.random() < 0.8 else len(changed) - 1 - draw.randrange(reach)
        some = draw.randint(1, 200)
        match draw.randrange(8):
            case 0:
                changed[at] ^= 1 << draw.randrange(8)
            case 1:
                changed[at : at + 4] = draw.choice(
                    [b"\xff" * 4, b"\0" * 4, b"\x7f\xff\xff\xff", b"\x80\0\0\0"]
                )
            case 2:
                del changed[at:]
            case 3:
                del changed[at : at + some]
            case 4:
                changed[at:at] = changed[at : at + some] * draw.randint(1, 20)
            case 5:
                changed[at : at + some] = draw.randbytes(some)
            case 6:
                odd = [
                    b"NaN",
                    b"1e999",
                    b"-1",
                    b"null",
                    b"[[[[",
                    b"\xed\xa0\x80",
                    b"../../x",
                    b"\0",
                    b"9" * 400,
                ]
                changed[at : at + draw.randrange(4)] = draw.choice(odd)
            case _:
                other = draw.randrange(len(changed))
                changed[at : at + some] = changed[other : other + some]
    return bytes(changed)


def doors(api, snapshot, kind, draw):
    """Where a file of a kind may be sent: address and field, or none where it is the whole body."""
    project = f"{api}/projects/1"
    order = json.dumps({"run_id": 1, "part": "validation"})
    measured = {"order": json.dumps({"snapshot_id": snapshot})}
    ways = {
        "picture": [(f"{project}/media", "files", {}), (f"{api}/addresses/belt/detections", None, {})],
        "clip": [(f"{project}/media", "files", {})],
        "archive": [(f"{project}/media", "files", {}), (f"{project}/annotations", "files", {})],
        "labels": [(f"{project}/annotations", "files", {})],
        "detections": [(f"{project}/evaluations/upload", "detections", measured)],
        "model": [(f"{project}/evaluations/upload", "model", measured)],
    }
    if draw.random() < 0.05:
        # Rarely, as each starts a network: any file as one to look at, and as truth.
        ways[kind] = [
            (f"{api}/detections/upload", "files", {"run_id": "1"}),
            (f"{project}/evaluations/upload", "truth", {"order": order}),
        ]
    return draw.choice(ways[kind])


@pytest.mark.long
def test_changed_files_through_every_door(tmp_path):
    folder = belt_folder(tmp_path)
    sessions = open_database(folder.database)
    with sessions() as session:
        files = whole_files(tmp_path, session, 1)
    sessions.kw["bind"].dispose()
    before = {path for path in tmp_path.iterdir()}
    with servers(folder.root) as start:
        server, line = start("--port", "0")
        api = f"{address_in(line)}/api/v1"
        _, address = ask(f"{api}/projects/1/addresses", {"name": "belt", "run_id": 1}, "POST")
        _, key = ask(f"{api}/addresses/{address['id']}/keys", {"name": "line", "per_minute": 100_000}, "POST")
        _, frozen = ask(f"{api}/projects/1/snapshots", {"name": "Before"}, "POST")
        job = f"{api}/jobs/{frozen['job']['id']}"
        wait_for(lambda: ask(job)[1]["state"] == "done", "the snapshot")
        snapshot = ask(job)[1]["outcome"]["freeze"]["snapshot_id"]
        wrong, statuses, waits, turn = [], Counter(), [], iter(range(FILES))
        lock = threading.Lock()

        def send():
            while True:
                with lock:
                    number = next(turn, None)
                if number is None or wrong:
                    return
                draw = random.Random(number)
                kind, name, content = files[number % len(files)]
                changed = mutated(content, draw)
                url, field, values = doors(api, snapshot, kind, draw)
                sent = multipart(field, name, changed, **values) if field else changed
                head = {"Authorization": f"Bearer {key['key']}"} if field is None else {}
                begun = time.monotonic()
                try:
                    status, said = ask(url, sent, "POST", FORM if field else "image/jpeg", **head)
                except Away as error:
                    status, said = 0, str(error)
                waits.append((time.monotonic() - begun, number, name))
                statuses[kind, status] += 1
                if (
                    status == 0
                    or (status >= 500 and status != 503)
                    or (status >= 400 and not said.get("detail"))
                ):
                    wrong.append((number, name, url, status, said))

        senders = [threading.Thread(target=send) for _ in range(SENDERS)]
        with pages_turned(int(api.split("/")[2].rsplit(":", 1)[1])) as pages:
            for each in senders:
                each.start()
            for each in senders:
                each.join()
        assert not wrong, wrong[:3]
        assert server.poll() is None
        # All jobs that came of it end, and each says why in words that somebody wrote.
        sessions = open_database(folder.database)
        open_states = (JobState.WAITING, JobState.RUNNING)
        while left := [each for each in jobs(sessions) if each.state in open_states]:
            time.sleep(1 + len(left) / 200)
        unforeseen = [each for each in jobs(sessions) if "Unexpected error" in each.message]
        assert not unforeseen, [(each.title, each.message) for each in unforeseen[:5]]
        sizes = {
            pid: psutil.Process(pid).memory_info().rss >> 20 for pid in (server.pid, *children_of(server.pid))
        }
        assert sizes[server.pid] < LARGEST, sizes
        # What is whole is taken as ever.
        pixels = np.random.default_rng(77).integers(0, 256, (60, 80, 3), dtype=np.uint8)
        _, said = ask(
            f"{api}/projects/1/media", multipart("files", "whole.jpg", encode_jpeg(pixels)), "POST", FORM
        )
        assert said["files"][0]["outcome"] == "added", said
        assert {path for path in tmp_path.iterdir()} == before, "nothing was written beside the data folder"
        if SOAK:
            slowest = [(round(seconds, 1), number, name) for seconds, number, name in sorted(waits)[-4:]]
            print(dict(statuses), "slowest", slowest, "MB", sizes, in_words(pages))
            assert pages[-1][0] < 0.1


def jobs(sessions):
    with sessions() as session:
        return session.execute(select(Job.state, Job.title, Job.message)).all()
