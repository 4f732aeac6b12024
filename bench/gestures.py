"""Frames that panning, zooming and dragging keep on a large picture with very many boxes, against an idle page."""

import tempfile
from pathlib import Path

import numpy as np

from avocet.demo.belt import render_still
from avocet.demo.goods import NAMES
from avocet.media.pictures import encode_jpeg
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import PictureState
from avocet.work.labels.boxes import NewBox, save_labels
from avocet.work.labels.classes import ensure_classes
from avocet.work.pictures.adding import add_picture
from avocet.work.project.projects import create_project
from bench.browser import browser, served

BOXES, FRAMES, ROUNDS = 500, 60, 5

GESTURES = """
const [frames, done] = arguments;
const stage = document.querySelector('[data-test=stage]');
const at = stage.getBoundingClientRect();
const send = (kind, x, y, more = {}) => stage.dispatchEvent(new PointerEvent(kind,
  {clientX: at.left + x, clientY: at.top + y, pointerId: 1, bubbles: true, ...more}));
const turn = (n) => stage.dispatchEvent(new WheelEvent('wheel',
  {deltaY: n % 20 < 10 ? -40 : 40, clientX: at.left + 300, clientY: at.top + 300, cancelable: true}));
stage.setPointerCapture = () => {};
const each = (step) => new Promise((finish) => {
  const begun = performance.now();
  let shown = 0;
  const tick = () => {
    shown += 1;
    if (shown > frames) return finish(shown / (performance.now() - begun) * 1000);
    step(shown);
    requestAnimationFrame(tick);
  };
  requestAnimationFrame(tick);
});
(async () => {
  const found = {};
  found.idle = await each(() => {});
  send('pointerdown', 300, 300, {button: 1});
  found.panning = await each((n) => send('pointermove', 300 + n, 300, {movementX: n % 2 ? 3 : -2, movementY: 1}));
  send('pointerup', 300, 300, {button: 1});
  found.zooming = await each(turn);
  send('pointerdown', 300, 300, {button: 0, shiftKey: true});
  found.dragging = await each((n) => send('pointermove', 300 + 2 * n, 300 + n));
  send('pointerup', 300 + 2 * frames, 300 + frames);
  done(found);
})();
"""
READY = """
const [done] = arguments;
const look = () => document.querySelector('[data-test=stage][data-ready=true]') ? done(1) : requestAnimationFrame(look);
look();
"""


def main() -> None:
    with tempfile.TemporaryDirectory() as place:
        picture = _crowded_picture(DataFolder(Path(place) / "data"), Path(place) / "large.jpg")
        with served(Path(place) / "data") as server, browser() as driver:
            driver.get(f"http://127.0.0.1:{server.port}/project/1/collect/{picture}")
            driver.execute_async_script(READY)
            rounds = [driver.execute_async_script(GESTURES, FRAMES) for _ in range(ROUNDS)]
    rates = {name: float(np.median([each[name] for each in rounds])) for name in rounds[0]}
    kept = ", ".join(f"{name} {rate / rates['idle']:.2f}" for name, rate in rates.items() if name != "idle")
    print(
        f"{BOXES} boxes on 3,840 × 2,160, frames against the {rates['idle']:.0f} a second of an idle page: {kept} "
        "(wanted: 0.9)"
    )


def _crowded_picture(folder: DataFolder, path: Path) -> int:
    """A project with one large picture and its many boxes; the picture's number."""
    pixels = np.kron(np.asarray(render_still(3).pixels), np.ones((4, 4, 1), np.uint8))
    path.write_bytes(encode_jpeg(pixels))
    random = np.random.default_rng(0)
    with open_database(folder.database).begin() as session:
        project = create_project(session, "Belt").id
        classes = [each.id for each in ensure_classes(session, project, list(NAMES))]
        picture = add_picture(session, folder, project, path, path.name).picture
        corners = random.uniform((0, 0), (3700, 2040), (BOXES, 2)).tolist()
        boxes = [
            NewBox(classes[n % len(classes)], (x, y, x + 60 + n % 60, y + 50 + n % 50))
            for n, (x, y) in enumerate(corners)
        ]
        save_labels(session, picture, 0, boxes, PictureState.IN_PROGRESS)
        return picture.id
