"""The demo project: stills of the cooling belt, most of them labelled, and a clip of it moving."""

import tempfile
from dataclasses import replace
from itertools import count
from pathlib import Path

from avocet.demo.belt import HEIGHT, WIDTH, Frame, render_clip, render_still
from avocet.demo.goods import NAMES
from avocet.files import write_bytes
from avocet.media.clips import ClipWriter
from avocet.media.pictures import encode_jpeg
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import AttributeKind, Part, PictureState
from avocet.work.labels.attributes import add_attribute
from avocet.work.labels.boxes import NewBox, save_labels
from avocet.work.labels.classes import ensure_classes
from avocet.work.pictures.adding import add_picture
from avocet.work.pictures.clips import add_clip
from avocet.work.progress import SILENT, Reporter
from avocet.work.project.projects import create_project, list_projects

PROJECT = "Cooling belt"
PARTS = ((Part.TRAINING, 24), (Part.VALIDATION, 20), (Part.TEST, 20))
UNLABELLED = 16
FIRST_SEED = 1000
CLIP_SECONDS, CLIP_RATE = 6, 25
RENDERING = "Rendering the demo project"


def make_demo_project(sessions: Sessions, folder: DataFolder, reporter: Reporter = SILENT) -> bool:
    """Make the demo project in a data folder that has no project; returns whether it did.

    All is rendered first and recorded in one step, so that a kill leaves no half-made project.
    """
    with reading(sessions)() as session:
        if list_projects(session):
            return False
    plan = [(part, True) for part, many in PARTS for _ in range(many)] + [(None, False)] * UNLABELLED
    total, done = len(plan) + CLIP_SECONDS * CLIP_RATE, count(1)
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        frames = []
        for number in range(len(plan)):
            frame = render_still(FIRST_SEED + number)
            write_bytes(place / f"belt-{number + 1:03d}.jpg", encode_jpeg(frame.pixels))
            frames.append(replace(frame, pixels=frame.pixels[:0]))
            reporter.progress(next(done), total, RENDERING)
        clip = place / "belt-moving.mp4"
        with ClipWriter(clip, WIDTH, HEIGHT, CLIP_RATE) as writer:
            for frame in render_clip(FIRST_SEED - 1, CLIP_SECONDS * CLIP_RATE):
                writer.write(frame.pixels)
                reporter.progress(next(done), total, RENDERING)
        with sessions.begin() as session:
            project = create_project(session, PROJECT)
            class_ids = {each.name: each.id for each in ensure_classes(session, project.id, list(NAMES))}
            add_attribute(session, project.id, "burnt", AttributeKind.FLAG)
            for number, ((part, labelled), frame) in enumerate(zip(plan, frames, strict=True)):
                path = place / f"belt-{number + 1:03d}.jpg"
                picture = add_picture(session, folder, project.id, path, path.name).picture
                picture.part = part
                if labelled:
                    save_labels(session, picture, 0, _boxes(frame, class_ids), PictureState.DONE)
            add_clip(session, folder, project.id, clip, clip.name)
    return True


def _boxes(frame: Frame, class_ids: dict[str, int]) -> list[NewBox]:
    return [
        NewBox(class_ids[name], tuple(box), attributes={"burnt": True} if burnt else {})  # type: ignore[arg-type]
        for box, name, burnt in zip(frame.boxes.tolist(), frame.classes, frame.burnt, strict=True)
    ]
