"""A large picture with very many boxes, and the gestures that move it about, for tests and for measuring."""

from pathlib import Path

import numpy as np

from avocet.demo.belt import render_still
from avocet.media.pictures import encode_jpeg
from avocet.work.labels.boxes import NewBox

BOXES = 500

GESTURES = """
const [frames, done] = arguments;
const stage = document.querySelector('[data-test=stage]');
const at = stage.getBoundingClientRect();
const send = (kind, x, y, more = {}) => stage.dispatchEvent(new PointerEvent(kind,
  {clientX: at.left + x, clientY: at.top + y, pointerId: 1, bubbles: true, ...more}));
const turn = (n) => stage.dispatchEvent(new WheelEvent('wheel',
  {deltaY: n % 20 < 10 ? -40 : 40, clientX: at.left + 300, clientY: at.top + 300, cancelable: true}));
stage.setPointerCapture = () => {};
let changed = 0;
const watcher = new MutationObserver((changes) => { changed += changes.length; });
watcher.observe(document.body, {subtree: true, childList: true, attributes: true, characterData: true});
const each = (step) => new Promise((finish) => {
  const begun = performance.now();
  let shown = 0;
  changed = 0;
  const tick = () => {
    shown += 1;
    if (shown > frames)
      return finish({rate: shown / (performance.now() - begun) * 1000, changes: changed / frames});
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
  watcher.disconnect();
  done(found);
})();
"""
"""To be run in a page that shows a picture, with the number of frames of each gesture: frames a second, and how many things
changed in the page with each frame. The last one draws a box."""


def write_large_picture(path: Path) -> None:
    """A still of the belt, 3,840 × 2,160."""
    path.write_bytes(encode_jpeg(np.kron(np.asarray(render_still(3).pixels), np.ones((4, 4, 1), np.uint8))))


def very_many_boxes(classes: list[int]) -> list[NewBox]:
    """`BOXES` boxes all over it, of the classes in turn."""
    corners = np.random.default_rng(0).uniform((0, 0), (3700, 2040), (BOXES, 2)).tolist()
    return [
        NewBox(classes[n % len(classes)], (x, y, x + 60 + n % 60, y + 50 + n % 50))
        for n, (x, y) in enumerate(corners)
    ]
