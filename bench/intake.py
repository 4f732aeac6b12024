"""Pictures taken in from a folder: processor time of each, against decoding it alone."""

import io
import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image

from avocet.store.database import Sessions, open_database
from avocet.store.folder import DataFolder
from avocet.work.pictures.intake import take_folder
from avocet.work.pictures.thumbnails import look_at_pictures
from avocet.work.progress import SILENT
from avocet.work.project.projects import create_project

PICTURES = 1000


def make(place: Path) -> list[Path]:
    """JPEG files of 960×540 pixels: one picture, and a number behind its end that makes each file another."""
    random = np.random.default_rng(0)
    coarse = Image.fromarray(random.integers(0, 255, (27, 48, 3), dtype=np.uint8))
    buffer = io.BytesIO()
    coarse.resize((960, 540)).save(buffer, "JPEG", quality=90)
    paths = [place / f"belt-{number:06d}.jpg" for number in range(PICTURES)]
    for number, path in enumerate(paths):
        path.write_bytes(buffer.getvalue() + str(number).encode())
    return paths


def measured(does: Callable[[], object]) -> tuple[float, float]:
    """Milliseconds a picture, of processor and in all."""
    spent, begun = time.process_time(), time.perf_counter()
    does()
    each = 1000 / PICTURES
    return (time.process_time() - spent) * each, (time.perf_counter() - begun) * each


def decode(paths: list[Path]) -> None:
    """What every other figure is compared with."""
    for path in paths:
        with Image.open(path) as opened:
            opened.load()


def taken(place: Path, shelf: Path, copied: bool) -> tuple[Callable[[], object], Callable[[], object]]:
    """Taking the folder into a new project, and looking at the pictures afterwards."""
    folder = DataFolder(place)
    sessions: Sessions = open_database(folder.database)
    with sessions.begin() as session:
        project = create_project(session, "Belt").id
    return (
        lambda: take_folder(sessions, folder, project, shelf, copied, SILENT),
        lambda: look_at_pictures(sessions, folder, project, SILENT),
    )


def main() -> None:
    """Print each way in turn."""
    with tempfile.TemporaryDirectory() as held:
        place = Path(held)
        (place / "shelf").mkdir()
        paths = make(place / "shelf")
        print(f"{PICTURES:,} JPEG pictures of 960×540, {paths[0].stat().st_size / 1000:.0f} kB each")
        copy, _ = taken(place / "copied", place / "shelf", copied=True)
        use, look = taken(place / "in-place", place / "shelf", copied=False)
        plain = measured(lambda: decode(paths))[0]
        for name, does in (
            ("decoded alone", lambda: decode(paths)),
            ("copied, with thumbnails", copy),
            ("used where they lie", use),
            ("thumbnails later", look),
        ):
            spent, waited = measured(does)
            print(
                f"{name:24} {spent:6.2f} ms of processor, {waited:6.2f} ms on {os.cpu_count()} cores, "
                f"{spent / plain:4.1f} times a decoding"
            )
