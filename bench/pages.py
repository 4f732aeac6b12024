"""A project of 100,000 pictures: pages of its grid, a writer and a reader beside other work, the first page on screen."""

import shutil
import signal
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from flask.testing import FlaskClient
from sqlalchemy import event, select

from avocet.detector.training.settings import Settings
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import Box, Job, JobState, Part, Picture, PictureState, Run, Snapshot
from avocet.web.app import create_app
from avocet.work.labels.classes import ensure_classes
from avocet.work.project.projects import create_project
from bench.browser import Server, browser, served
from bench.crowd import RUNS, Client, crowd

PICTURES, BOXES, REQUESTS = 100_000, 850_000, 200
FREQUENT = 0.28
"""Share of the boxes that are of the first class."""
QUERIES = {
    "first page": "",
    "next page": "after={id}",
    "jump into the midst": "skip={skip}",
    "by name": "order=name&after={id}",
    "most boxes first": "order=boxes&descending=true&after={id}",
    "one state": "state=done&after={id}",
    "one class": "class_id=3&after={id}",
    "a frequent class": "class_id=1&after={id}",
    "one part and name": "part=test&name=belt-09",
}


def fill(folder: DataFolder, pictures: int = PICTURES, labelled: bool = True) -> None:
    """A project with rows of pictures and boxes, or of pictures alone, and no files."""
    boxes = BOXES * pictures // PICTURES if labelled else 0
    on = np.arange(boxes) * pictures // max(boxes, 1)
    counts = np.bincount(on, minlength=pictures).tolist()
    sessions = open_database(folder.database)
    random = np.random.default_rng(0)
    states, parts = list(PictureState), [*Part, None]
    with sessions.begin() as session:
        project = create_project(session, "Belt").id
        ids = [each.id for each in ensure_classes(session, project, [f"good {n}" for n in range(80)])]
        session.execute(
            Picture.__table__.insert(),
            [
                {"project_id": project, "name": f"belt-{n:06d}.jpg", "content_hash": str(n), "suffix": ".jpg",
                 "width": 960, "height": 540, "state": states[n % 4] if labelled else PictureState.UNLABELLED,
                 "part": parts[n % 4], "revision": 1, "box_count": counts[n], "source": ""}
                for n in range(pictures)
            ],
        )  # fmt: skip
        places = np.column_stack(
            [
                random.integers(0, (800, 390), (boxes, 2)),
                random.integers(8, 140, (boxes, 2)),
            ]
        )
        classes = np.where(random.random(boxes) < FREQUENT, 0, random.integers(0, 80, boxes)).tolist()
        firsts = (np.cumsum(counts) - counts).tolist()
        rows = [
                {"picture_id": 1 + at, "class_id": ids[classes[n]], "position": 1 + n - firsts[at],
                 "x1": x, "y1": y, "x2": x + wide, "y2": y + high, "crowd": False, "attributes": {}}
                for n, (at, (x, y, wide, high)) in enumerate(zip(on.tolist(), places.tolist(), strict=True))
            ]  # fmt: skip
        if rows:
            session.execute(Box.__table__.insert(), rows)
    sessions.kw["bind"].dispose()


def times(client: FlaskClient, template: str) -> np.ndarray:
    """Milliseconds of requests from all over the project."""
    random = np.random.default_rng(1)
    found = []
    for place in random.integers(1, PICTURES, REQUESTS).tolist():
        query = template.format(id=place, skip=place)
        begun = time.perf_counter()
        reply = client.get(f"/api/v1/projects/1/pictures?limit=120&counted={str(not query).lower()}&{query}")
        found.append(1000 * (time.perf_counter() - begun))
        assert reply.status_code == 200
    return np.array(found)


def main() -> None:
    """Print the 50th and 95th percentile of each kind of page."""
    with tempfile.TemporaryDirectory() as place:
        folder = DataFolder(Path(place))
        fill(folder)
        client = create_app(folder, open_database(folder.database), lambda *_: None).test_client()
        client.get("/api/v1/formats")
        greeting = []
        for _ in range(REQUESTS):
            begun = time.perf_counter()
            client.get("/api/v1/formats")
            greeting.append(1000 * (time.perf_counter() - begun))
        base = float(np.median(greeting))
        print(
            f"{PICTURES:,} pictures, {BOXES:,} boxes, 120 pictures a page; a bare request takes {base:.1f} ms"
        )
        for name, template in QUERIES.items():
            found = times(client, template)
            half, most = np.percentile(found, [50, 95])
            print(
                f"{name:22} p50 {half:6.1f} ms   p95 {most:6.1f} ms   {half / base:5.1f} times a bare request"
            )
        print("wanted: p95 under 50 ms")
    with tempfile.TemporaryDirectory() as place, _served(Path(place), PICTURES, labelled=False) as server:
        crowd(server.port, Path(place), lambda: runs_listed(Path(place)))
        broken_off(server, Path(place))
    first_page_on_screen()


def broken_off(server: "Server", place: Path) -> None:
    """Print how long a server takes to end on Ctrl-C in the midst of long work, and what is left of it."""
    client = Client(server.port)
    jobs = [
        client.json(method, path, body)["job"]["id"]
        for method, path, body in (
            ("PUT", "/projects/1/split", {"training": 60, "validation": 20, "test": 20}),
            ("POST", "/projects/1/exports", {"format": "coco"}),
            ("POST", "/projects/1/findings", None),
        )
    ]
    time.sleep(2)
    begun = time.perf_counter()
    server.process.send_signal(signal.SIGINT)
    server.process.wait(timeout=120)
    seconds = time.perf_counter() - begun
    sessions = open_database(DataFolder(place).database)
    with sessions() as session:
        states = [session.get_one(Job, number).state.value for number in jobs]
        whole = session.connection().exec_driver_sql("PRAGMA integrity_check").scalar()
    print(
        f"Ctrl-C beside three jobs: ended in {seconds:.1f} s (wanted: under 3 s), jobs {states}, database {whole}"
    )


def runs_listed(place: Path) -> int:
    """How many queries it takes to list 200 runs."""
    folder = DataFolder(place)
    sessions = open_database(folder.database)
    with sessions.begin() as session:
        snapshot = session.scalars(select(Snapshot)).first()
        assert snapshot is not None
        for number in range(RUNS):
            job = Job(project_id=1, kind="train", title="Train", state=JobState.DONE)
            settings = Settings().as_record()
            session.add(
                Run(project_id=1, snapshot=snapshot, job=job, name=f"Stint {number}", settings=settings)
            )
    client = create_app(folder, sessions, lambda *_: None).test_client()
    asked: list[str] = []
    event.listen(sessions.kw["bind"], "before_cursor_execute", lambda *given: asked.append(given[2]))
    assert len(client.get("/api/v1/projects/1/runs").json["runs"]) == RUNS
    return len(asked)


SHOWN = """
const [done] = arguments;
const look = () => document.querySelectorAll('[data-test=card]').length > 15
  ? done(performance.now()) : requestAnimationFrame(look);
look();
"""


def first_page_on_screen() -> None:
    """Print how long a browser takes from the address to the first pictures, many against few."""
    if not shutil.which("chromedriver"):
        print("no browser here, so no first page on screen")
        return
    found = {}
    for many in (30, PICTURES):
        with (
            tempfile.TemporaryDirectory() as place,
            _served(Path(place), many) as server,
            browser() as driver,
        ):
            times = []
            for _ in range(5):
                driver.get(f"http://127.0.0.1:{server.port}/project/1/collect")
                times.append(driver.execute_async_script(SHOWN) / 1000)
            found[many] = float(np.median(times))
    ratio = found[PICTURES] / found[30]
    print(
        f"first page on screen: {found[PICTURES]:.2f} s with {PICTURES:,} pictures, {ratio:.1f} times that of 30 (wanted: under 1 s)"
    )


@contextmanager
def _served(place: Path, pictures: int, labelled: bool = True) -> Iterator[Server]:
    fill(DataFolder(place), pictures, labelled)
    with served(place) as server:
        yield server
