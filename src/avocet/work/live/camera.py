"""A model on what a camera shows: always its newest frame, objects counted once, recorded on demand."""

import time
from pathlib import Path
from typing import Any

import numpy as np

from avocet.core.detections import PictureDetections
from avocet.core.tracks.linking import Linker
from avocet.media.cameras.live import THIS_COMPUTER, Camera
from avocet.media.cameras.newest import LiveFrame
from avocet.media.cameras.pushed import PushedCamera
from avocet.work.live.recording import Recording
from avocet.work.live.showing import LastMinute, Shown
from avocet.work.live.telling import Telling
from avocet.work.progress import Reporter, Stopped
from avocet.work.use.running.looking import Looker, Row, with_weaker

SHOWN_EVERY = 0.08
"""Seconds between two pictures that the page gets."""

WAIT = 0.5
"""Seconds for which a frame is waited for, before it is shown that none comes."""

SECONDS = 5.0
"""Over which frames a second are measured."""


class _Watch:
    """One camera under way."""

    def __init__(
        self, camera: Camera | PushedCamera, looker: Looker, place: Path, reporter: Reporter
    ) -> None:
        self._camera, self._looker, self._place = camera, looker, place
        self._numbers = {name: number for number, name in enumerate(looker.classes)}
        self._linker = Linker(looker.least, endless=True)
        self._objects, self._speed = LastMinute(), LastMinute(SECONDS)
        self._most, self._size = 0, (0, 0)
        self._recording: Recording | None = None
        self._ending: list[Recording] = []
        self._shown_at = 0.0
        self.pictures = 0
        self._telling = Telling(
            Shown(place), reporter, lambda: (self.pictures, self.pictures, camera.state()[1])
        )

    def see(self, frame: LiveFrame) -> None:
        """Look at a frame."""
        height, width = frame.pixels.shape[:2]
        if (width, height) != self._size:
            # Another picture altogether: what was followed in the one before is not in it.
            self._size, self._linker, self._most = (
                (width, height),
                Linker(self._looker.least, endless=True),
                0,
            )
        (row,) = self._looker.look([frame.pixels])
        limit = self._looker.order.overlap_limit
        found = self._linker.step(with_weaker(row, self._numbers, self._looker.least, limit))
        objects = found[: len(row["detections"])].tolist()
        for number, each in zip(objects, row["detections"], strict=True):
            if number > self._most:
                self._objects.add(each["class"], frame.at)
        self._most = max([self._most, *objects])
        self.pictures += 1
        now = time.time()
        self._speed.add("", now)
        if self._recording is not None and not self._recording.fits(frame.pixels):
            self.record(False)
            self.record(True)
        if self._recording is not None:
            told = [
                each | {"object": number} for each, number in zip(row["detections"], objects, strict=True)
            ]
            self._recording.add(frame.pixels, {"detections": told}, frame.at)
        if now - self._shown_at >= SHOWN_EVERY:
            self._shown_at = now
            self._telling.show(self._said(row, objects, frame, now), frame.pixels)

    def waiting(self) -> None:
        """Show that nothing comes, and why."""
        state, why = self._camera.state()
        self._telling.show(self._told(state, why, time.time()), None)

    def wishes(self) -> None:
        """Begin or end a recording as a person wishes, or raise `Stopped`."""
        if self._telling.stopped:
            raise Stopped
        wanted = bool(self._telling.wishes.get("recording"))
        if wanted != (self._recording is not None):
            self.record(wanted)

    def record(self, on: bool) -> None:
        if self._recording is not None:
            self._recording.end()
            self._ending.append(self._recording)
            self._recording = None
        if on:
            self._recording = Recording(self._place / "recordings", time.time())

    def close(self) -> None:
        """Finish what is recorded and told."""
        self._telling.close()
        self.record(False)
        for each in self._ending:
            each.close()

    def _told(self, state: str, why: str, now: float) -> dict[str, Any]:
        return {
            "state": state,
            "message": why or (self._recording.fault if self._recording is not None else ""),
            "classes": self._looker.classes,
            "frames_per_second": round(self._speed.a_second(now), 1) if state == "live" else 0.0,
            "last_minute": self._objects.by_name(now),
            "reconnects": self._camera.reconnects,
            "recording": self._recording.name if self._recording is not None else None,
            "engine": self._looker.finder.about.get("engine", ""),
        }

    def _said(self, row: Row, objects: list[int], frame: LiveFrame, now: float) -> dict[str, Any]:
        return self._told("live", "", now) | {
            "width": row["width"],
            "height": row["height"],
            "captured": frame.at,
            "boxes": [each["box"] for each in row["detections"]],
            "scores": [each["score"] for each in row["detections"]],
            "kinds": [self._numbers[each["class"]] for each in row["detections"]],
            "objects": objects,
        }


def _warm_up(looker: Looker) -> None:
    """Look and link once: what is loaded with the first use would make the first frames late."""
    looker.look([np.zeros((64, 64, 3), np.uint8)])
    linker, one = (
        Linker(looker.least),
        PictureDetections(np.array([[0.0, 0, 9, 9]]), np.ones(1), np.zeros(1, np.int64)),
    )
    for _ in range(3):
        linker.step(one)


def watch_camera(address: str, looker: Looker, place: Path, reporter: Reporter) -> int:
    """Look at what a camera shows until somebody stops it.

    Parameters
    ----------
    address : str
        Or `THIS_COMPUTER`, where a page pushes its frames to ``place``.
    looker : Looker
    place : Path
        Gets what is shown now, and recordings.
    reporter : Reporter

    Returns
    -------
    int
        Pictures that were looked at.

    Raises
    ------
    Stopped
        When somebody has stopped it.
    """
    _warm_up(looker)
    camera = PushedCamera(place) if address == THIS_COMPUTER else Camera(address)
    watch = _Watch(camera, looker, place, reporter)
    number = 0
    try:
        while True:
            frame = camera.newest(number, WAIT)
            if frame is not None:
                number = frame.number
                watch.see(frame)
            else:
                watch.waiting()
            watch.wishes()
    finally:
        camera.close()
        watch.close()
