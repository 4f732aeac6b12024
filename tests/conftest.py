"""Fixtures that the whole suite shares: a data folder, rendered belt pictures, one trained model."""

import gc
import json
import os
import shutil
from pathlib import Path

# Enough for the tiny networks of the tests, and no fight over the cores.
os.environ.setdefault("OMP_NUM_THREADS", "2")

import numpy as np
import pytest
from hypothesis import settings

from avocet.demo.belt import Frame, render_still
from avocet.demo.goods import NAMES
from avocet.media.pictures import encode_jpeg
from avocet.store.database import open_as_it_is, open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, PictureState
from avocet.work.job_kinds import Task
from avocet.work.labels.boxes import NewBox, save_labels
from avocet.work.labels.classes import ensure_classes
from avocet.work.pictures.adding import add_picture
from avocet.work.progress import SILENT
from avocet.work.project.projects import create_project, list_projects

SOAK = 20 if os.environ.get("AVOCET_SOAK") else 1
QUICK = "AVOCET_QUICK" in os.environ
# The same cases on every machine, so that what passed once passes again; `make soak` draws others each time.
# What it finds is written down as a case of its own.
settings.register_profile(
    "avocet", deadline=None, max_examples=10 if QUICK else 100, derandomize=SOAK == 1, database=None
)
settings.load_profile("avocet")


def examples(most: int, **options):
    """So many random cases for a test; few of them in `make quick`, very many in `make soak`."""
    wanted = min(most, 15) if QUICK else most * SOAK
    return settings(max_examples=wanted, **options)


at_length = pytest.mark.skipif(SOAK == 1, reason="takes long; make soak does it")
"""For what has a shorter test beside it, of the same thing."""

TRAINING = frozenset({"trained", "run_id", "judged", "doubted"})
"""Fixtures that train or measure a network first."""


def pytest_collection_modifyitems(items):
    """Whatever trains a network first, and what is made to harm, takes its time: `make quick` leaves it out."""
    for item in items:
        if "hostile" in item.path.parts or TRAINING & set(getattr(item, "fixturenames", ())):
            item.add_marker(pytest.mark.slow)


def pytest_collection():
    """What is collected stays: to look for rubbish meanwhile takes time and finds none."""
    gc.disable()


def pytest_collection_finish():
    """Tests and modules stay to the end: Python need not go through them again whenever it looks for rubbish."""
    gc.freeze()
    gc.enable()


def pytest_ignore_collect(collection_path):
    """In `make quick` what it leaves out whole is not even imported."""
    return True if QUICK and collection_path.name in ("hostile", "browser") else None


@pytest.fixture(scope="session")
def frames() -> list[Frame]:
    """Six stills of the belt, the same in every test."""
    return [render_still(seed) for seed in range(6)]


@pytest.fixture(scope="session")
def made_once(tmp_path_factory, frames):
    """Two data folders to be copied: an empty one and one with a labelled project."""
    place = tmp_path_factory.mktemp("made")
    for name in ("empty", "labelled"):
        folder = DataFolder(place / name)
        sessions = open_database(folder.database)
        if name == "labelled":
            with sessions.begin() as session:
                fill(session, folder, frames, place)
        # Closed, so that all is in the one file that is copied.
        sessions.kw["bind"].dispose()
    return place


@pytest.fixture
def data(tmp_path, made_once, request):
    """A data folder and its sessions; empty unless the test asks for `labelled` too."""
    kind = "labelled" if "labelled" in request.fixturenames else "empty"
    shutil.copytree(made_once / kind, tmp_path / "data")
    folder = DataFolder(tmp_path / "data")
    # Its tables are those of now: to look for migrations would be most of what the fixture takes.
    return folder, open_as_it_is(folder.database)


@pytest.fixture(scope="session")
def built_once(tmp_path_factory):
    """An application for no data folder in particular: to make one takes longer than most requests."""
    from avocet.web.app import create_app

    folder = DataFolder(tmp_path_factory.mktemp("nothing") / "data")
    return create_app(folder, open_database(folder.database), lambda *_: None)


@pytest.fixture
def app_of(built_once):
    """The application for a data folder, its sessions, and what takes its jobs."""
    from avocet.web.context import context_of

    def handed(folder, sessions, enqueue=lambda *_: None):
        built_once.extensions["avocet"] = context_of(folder, sessions, enqueue)
        return built_once

    return handed


@pytest.fixture
def labelled(data):
    """A project with four training and two validation pictures, all labelled; its number."""
    with data[1]() as session:
        return list_projects(session)[0].id


def fill(session, folder, frames, place):
    """Make the labelled project."""
    project = create_project(session, "Belt")
    ids = {each.name: each.id for each in ensure_classes(session, project.id, list(NAMES))}
    for number, frame in enumerate(frames):
        picture = add_still(session, folder, project.id, frame, f"still-{number}.jpg", place)
        picture.part = Part.TRAINING if number < 4 else Part.VALIDATION
        pairs = zip(frame.classes, frame.boxes.tolist(), strict=True)
        boxes = [NewBox(ids[name], tuple(box)) for name, box in pairs]
        save_labels(session, picture, 0, boxes, PictureState.DONE)


def add_still(session, folder, project_id, frame, name, tmp_path):
    """Add a rendered frame to a project."""
    path = tmp_path / name
    path.write_bytes(encode_jpeg(frame.pixels))
    return add_picture(session, folder, project_id, path, name).picture


def write_coco_set(place: Path, frames, names=None, suffix=".jpg") -> Path:
    """Write frames as pictures with a COCO file of their truths; returns the file."""
    from PIL import Image

    classes = sorted({name for frame in frames for name in frame.classes})
    document = {
        "images": [],
        "annotations": [],
        "categories": [{"id": 10 + i, "name": n} for i, n in enumerate(classes)],
    }
    place.mkdir(parents=True, exist_ok=True)
    for number, frame in enumerate(frames, start=1):
        name = f"frame-{number}{suffix}"
        Image.fromarray(np.asarray(frame.pixels)).save(place / name)
        height, width = frame.pixels.shape[:2]
        document["images"].append({"id": number, "file_name": name, "width": width, "height": height})
        for box, label in zip(frame.boxes.tolist(), frame.classes, strict=True):
            document["annotations"].append(
                {
                    "id": len(document["annotations"]) + 1,
                    "image_id": number,
                    "category_id": 10 + classes.index(label),
                    "bbox": [box[0], box[1], box[2] - box[0], box[3] - box[1]],
                    "iscrowd": 0,
                }
            )
    path = place / "truth.json"
    path.write_text(json.dumps(document))
    return path


def task_of(data, kind, reporter=SILENT, job_id=7, enqueue=None, **given):
    """A job as the function that does it gets it."""
    folder, sessions = data[:2]
    return Task(
        sessions, folder, job_id, kind.given.model_validate(given), reporter, enqueue or (lambda *_: None)
    )
