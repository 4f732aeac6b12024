"""The demo project: stills of the cooling belt, most of them labelled, and a clip of it moving."""

import os
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

from avocet.demo.belt import HEIGHT, WIDTH, Frame, MovingBelt, render_still
from avocet.demo.goods import NAMES
from avocet.demo.planted import PHOTOGRAPHED_AGAIN, SHOWN_FIRST, with_mistakes
from avocet.demo.results import add_detection, add_results
from avocet.files import write_bytes, write_text
from avocet.media.clip_writer import ClipWriter
from avocet.media.pictures import encode_jpeg
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import AttributeKind, Part, PictureState
from avocet.work.clips.clips import add_clip
from avocet.work.labels.attributes import add_attribute
from avocet.work.labels.boxes import NewBox, save_labels
from avocet.work.labels.classes import ensure_classes
from avocet.work.pictures.adding import add_picture
from avocet.work.progress import SILENT, Reporter
from avocet.work.project.projects import create_project, list_projects

PROJECT = "Cooling belt"
PARTS = ((Part.TRAINING, 24), (Part.VALIDATION, 20), (Part.TEST, 20))
UNLABELLED = 16
FIRST_SEED = 1000
CLIP_SECONDS, CLIP_RATE = 6, 25
AT_ONCE = 30
"""Frames of the clip that are held at once."""

RENDERING = "Rendering the demo project"
CLIP_IS_DUE = "demo-clip-is-due"
"""A file that is there from when the demo project is recorded until its clip is."""


def make_demo_project(
    sessions: Sessions, folder: DataFolder, reporter: Reporter = SILENT, results: bool = True
) -> bool:
    """Make the demo project in a data folder that has no project; returns whether it did.

    The stills are rendered first, on all cores, and recorded in one step, so that a kill leaves no half-made
    project; the clip follows by `add_demo_clip`, while the project can be used.

    Parameters
    ----------
    sessions : Sessions
    folder : DataFolder
    reporter : Reporter
    results : bool
        With the runs and measurements that are shipped.
    """
    with reading(sessions)() as session:
        if list_projects(session):
            return False
    plan = [(part, True) for part, many in PARTS for _ in range(many)] + [(None, False)] * UNLABELLED
    with tempfile.TemporaryDirectory() as name, ThreadPoolExecutor(os.cpu_count()) as cores:
        place = Path(name)
        frames = []
        for frame in cores.map(lambda number: _still(place, number), range(1, len(plan) + 1)):
            frames.append(frame)
            reporter.progress(len(frames), len(plan), RENDERING)
        write_text(folder.root / CLIP_IS_DUE, "")
        with sessions.begin() as session:
            project = create_project(session, PROJECT)
            class_ids = {each.name: each.id for each in ensure_classes(session, project.id, list(NAMES))}
            add_attribute(session, project.id, "burnt", AttributeKind.FLAG)
            for number, ((part, labelled), frame) in enumerate(zip(plan, frames, strict=True), start=1):
                path = place / _name(number)
                picture = add_picture(session, folder, project.id, path, path.name).picture
                picture.part = part
                if labelled:
                    boxes = _boxes(with_mistakes(frame, number), class_ids)
                    save_labels(session, picture, 0, boxes, PictureState.DONE)
            if results:
                add_results(session, folder, project.id)
    return True


def add_demo_clip(
    sessions: Sessions, folder: DataFolder, reporter: Reporter = SILENT, results: bool = True
) -> bool:
    """Render the clip of a demo project that has none yet, and record it; returns whether it did.

    A kill before its end lets the next start do it.

    Parameters
    ----------
    sessions : Sessions
    folder : DataFolder
    reporter : Reporter
    results : bool
        With the detection run that is shipped.
    """
    with reading(sessions)() as session:
        project_id = next((each.id for each in list_projects(session) if each.name == PROJECT), None)
    if not demo_clip_is_due(folder) or project_id is None:
        return False
    total = CLIP_SECONDS * CLIP_RATE
    with tempfile.TemporaryDirectory() as name, ThreadPoolExecutor(os.cpu_count()) as cores:
        clip, moving = Path(name) / "belt-moving.mp4", MovingBelt(FIRST_SEED - 1, total)
        with ClipWriter(clip, WIDTH, HEIGHT, CLIP_RATE) as writer:
            for start in range(0, total, AT_ONCE):
                numbers = range(start, min(start + AT_ONCE, total))
                for number, frame in zip(numbers, cores.map(moving.frame, numbers), strict=True):
                    writer.write(frame.pixels)
                    reporter.progress(number + 1, total, "Rendering its clip")
        with sessions.begin() as session:
            kept = add_clip(session, folder, project_id, clip, clip.name)
            if results:
                add_detection(session, folder, project_id, kept)
    (folder.root / CLIP_IS_DUE).unlink()
    return True


def demo_clip_is_due(folder: DataFolder) -> bool:
    """Whether a demo project is there whose clip was not rendered to its end."""
    return (folder.root / CLIP_IS_DUE).is_file()


def _name(number: int) -> str:
    return f"belt-{number:03d}.jpg"


def _still(place: Path, number: int) -> Frame:
    """Render and write a still, counted from 1; its pixels are not kept."""
    again = number == PHOTOGRAPHED_AGAIN
    frame = render_still(FIRST_SEED + (SHOWN_FIRST if again else number) - 1, again)
    write_bytes(place / _name(number), encode_jpeg(frame.pixels))
    return replace(frame, pixels=frame.pixels[:0])


def _boxes(frame: Frame, class_ids: dict[str, int]) -> list[NewBox]:
    return [
        NewBox(class_ids[name], tuple(box), attributes={"burnt": True} if burnt else {})  # type: ignore[arg-type]
        for box, name, burnt in zip(frame.boxes.tolist(), frame.classes, frame.burnt, strict=True)
    ]
