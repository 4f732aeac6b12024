"""A watched folder: every picture that appears is looked at once it is completely written, once and not twice.

The result of a picture is a JSON file named after it; once that is there whole, the picture is done. A kill at any
moment therefore loses nothing: what has no result yet is looked at again, what has one is not.
"""

import contextlib
import json
import shutil
import stat
import time
from collections import deque
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.files import is_unfinished, write_bytes, write_text
from avocet.media.deep import DEEP_SUFFIXES, white_for
from avocet.media.pictures import SUFFIXES, encode_jpeg, picture_depth, read_picture
from avocet.media.white import whites_of_files
from avocet.readable import readable
from avocet.work.live.showing import LastMinute, Shown
from avocet.work.live.telling import Telling
from avocet.work.progress import Reporter, Stopped
from avocet.work.use.running.copies import ANNOTATED, Copier, into_folder
from avocet.work.use.running.looking import Looker, Row

LOOK_EVERY = 1.0
"""Seconds between two looks into the folder: by asking, as not every file system tells of changes."""

STILL = 1.0
"""Seconds for which a file must have kept its size and time before it counts as written to its end."""

PATIENCE = 20.0
"""A picture that cannot be read may still be on its way, in a way that its size does not show: it is tried again for
so many seconds after its last change."""

LATEST = 12

WHITE = "white.json"
"""What is white in pictures of more than 8 bits, once it is settled."""

Stamp = tuple[int, int]


class _Folder:
    """One folder under way."""

    def __init__(
        self, source: Path, out: Path, moves: bool, looker: Looker, place: Path, reporter: Reporter
    ) -> None:
        self._source, self._out, self._moves, self._looker = source, out, moves, looker
        self._kept = place / WHITE
        self._settled = _kept_white(self._kept)
        self._copier = Copier(looker.order, looker.classes, into_folder(out))
        self._seen: dict[str, tuple[Stamp, float]] = {}
        self._done: dict[str, Stamp] = {}
        self._numbers = {name: number for number, name in enumerate(looker.classes)}
        self._minute, self._speed = LastMinute(), LastMinute(10.0)
        self._latest: deque[dict[str, Any]] = deque(maxlen=LATEST)
        self._problems: dict[str, str] = {}
        self._picture: dict[str, Any] = {}
        self.pictures, self.waiting_for, self.message = 0, 0, ""
        for left in out.rglob(".*") if out.is_dir() else ():
            # What a kill has left half written.
            if is_unfinished(left.name):
                left.unlink(missing_ok=True)
        self.telling = Telling(
            Shown(place), reporter, lambda: (self.pictures, self.pictures + self.waiting_for, self.message)
        )

    def look(self) -> list[tuple[Path, str, Stamp]]:
        """What is there to be looked at now: written to its end, and without a result."""
        now, ready, waiting, there = time.monotonic(), [], 0, {}
        for path in sorted(self._source.rglob("*")):
            if (
                path.suffix.lower() not in SUFFIXES
                or path.is_relative_to(self._out)
                or _is_hidden(path, self._source)
            ):
                continue
            try:
                status = path.stat()
            except OSError:
                continue  # gone meanwhile
            if not stat.S_ISREG(status.st_mode):
                continue  # a pipe has no end
            name, stamp = path.relative_to(self._source).as_posix(), (status.st_size, status.st_mtime_ns)
            if self._done.get(name) == stamp:
                there[name] = (stamp, now)
                continue
            before = self._seen.get(name)
            since = before[1] if before is not None and before[0] == stamp else now
            there[name] = (stamp, since)
            if now - since < STILL:
                waiting += 1
            elif self._has_result(name, stamp):
                self._finished(path, name, stamp)
            else:
                ready.append((path, name, stamp))
        self._seen, self.waiting_for = there, waiting + len(ready)
        self._problems = {name: why for name, why in self._problems.items() if name in there}
        return ready

    def _result(self, name: str) -> Path:
        return self._out / f"{name}.json"

    def _has_result(self, name: str, stamp: Stamp) -> bool:
        try:
            said = json.loads(self._result(name).read_text(encoding="utf-8"))
            return bool([said["file_size"], said["file_time"]] == list(stamp))
        except (OSError, ValueError, KeyError, TypeError):
            return False

    def do(self, path: Path, name: str, stamp: Stamp) -> None:
        """Look at a picture and write its result."""
        called = readable(name)
        try:
            pixels = read_picture(path, called, white=self._white(path, called))
        except InputError as error:
            age = time.time() - stamp[1] / 1e9
            if 0 <= age < PATIENCE:
                return  # perhaps still on its way
            self._write(name, stamp, {"name": called, "problem": str(error)})
            self._problems[name] = str(error)
            self._done[name] = stamp
            return
        (row,) = self._looker.look([pixels])
        row.pop("others")
        row = {"name": called} | row
        drawn = None
        if self._copier.wanted:
            drawn = self._copier.drawn(pixels, row)
            row["annotated"] = f"{ANNOTATED}/{called}.jpg"
            write_bytes(self._out / row["annotated"], encode_jpeg(drawn))
        # The copy first: a result says that all is there.
        self._write(name, stamp, row)
        self._finished(path, name, stamp)
        self.pictures += 1
        self.waiting_for = max(0, self.waiting_for - 1)
        self._note(name, row, pixels)

    def _white(self, path: Path, name: str) -> float | None:
        """What is white in a picture of more than 8 bits: where neither a person, the file nor the model says it, what
        the pictures fit into that lay there when it was needed first; it stays, whoever starts the work again."""
        depth = picture_depth(path, name, measured=False) if path.suffix.lower() in DEEP_SUFFIXES else None
        if depth is None:
            return None
        chosen, usual = self._looker.order.white, self._looker.finder.about.get("white", self._settled)
        if usual is None and chosen is None and depth.declared is None:
            there = [(each, each.name) for each in sorted(path.parent.iterdir()) if each.is_file()]
            usual = self._settled = whites_of_files(there).of_set
            if usual is None:
                return None  # it cannot be read, which is told when it is
            write_text(self._kept, json.dumps(usual))
        return white_for(depth, chosen, usual)

    def _write(self, name: str, stamp: Stamp, row: dict[str, Any]) -> None:
        said = row | {
            "file_size": stamp[0], "file_time": stamp[1], "model": self._looker.finder.about.get("size"),
            "minimum_score": self._looker.order.minimum_score,
        }  # fmt: skip
        write_text(self._result(name), json.dumps(said, ensure_ascii=False, indent=1))

    def _finished(self, path: Path, name: str, stamp: Stamp) -> None:
        self._done[name] = stamp
        if not self._moves:
            return
        target, number = self._out / "done" / name, 2
        while target.exists():
            target, number = target.with_name(f"{Path(name).stem}-{number}{path.suffix}"), number + 1
        with contextlib.suppress(OSError):
            # Taken away by somebody else meanwhile: it is done all the same.
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.move(path, target)

    def _note(self, name: str, row: Row, pixels: NDArray[np.uint8]) -> None:
        now = time.time()
        self._speed.add("", now)
        for each in row["detections"]:
            self._minute.add(each["class"], now)
        self._latest.appendleft({"name": readable(name), "boxes": len(row["detections"]), "at": now})
        self._picture = {
            "width": row["width"], "height": row["height"], "name": readable(name),
            "boxes": [each["box"] for each in row["detections"]],
            "scores": [each["score"] for each in row["detections"]],
            "kinds": [self._numbers[each["class"]] for each in row["detections"]],
            "objects": [0] * len(row["detections"]), "captured": now,
        }  # fmt: skip
        self.show("live", "", pixels)

    def show(self, state: str, message: str, pixels: NDArray[np.uint8] | None = None) -> None:
        """Tell how it stands."""
        now = time.time()
        said = {
            "state": state, "message": message, "classes": self._looker.classes, "reconnects": 0, "recording": None,
            "frames_per_second": round(self._speed.a_second(now), 1), "last_minute": self._minute.by_name(now),
            "done": self.pictures, "waiting": self.waiting_for, "latest": list(self._latest),
            "problems": [f"{readable(name)}: {why}" for name, why in list(self._problems.items())[-5:]],
            "engine": self._looker.finder.about.get("engine", ""),
        }  # fmt: skip
        self.message = message
        self.telling.show(said | self._picture, pixels)


def _kept_white(path: Path) -> float | None:
    try:
        return float(json.loads(path.read_text()))
    except (OSError, ValueError, TypeError):
        return None


def _is_hidden(path: Path, source: Path) -> bool:
    parts = path.relative_to(source).parts
    return any(part.startswith(".") for part in parts) or is_unfinished(path.name)


def watch_folder(
    source: str,
    out: str,
    moves: bool,
    looker: Looker,
    place: Path,
    reporter: Reporter,
    every: float = LOOK_EVERY,
) -> int:
    """Look at every picture that appears in a folder or below it, until somebody stops it.

    Parameters
    ----------
    source, out : str
        Folders: of the pictures, and for ``<name>.json``, ``annotated/<name>.jpg`` and, where pictures are
        moved, ``done/<name>``.
    moves : bool
    looker : Looker
    place : Path
        Gets what is shown now.
    reporter : Reporter
    every : float
        Seconds between two looks.

    Returns
    -------
    int
        Pictures that were looked at.

    Raises
    ------
    Stopped
        When somebody has stopped it.
    """
    folder = _Folder(Path(source), Path(out), moves, looker, place, reporter)

    def stop_if_asked() -> None:
        if folder.telling.stopped:
            raise Stopped

    try:
        while True:
            message, state = "", "live"
            try:
                if not Path(source).is_dir():
                    raise InputError(f"the folder {Path(source).name} is not there; waiting for it")
                for path, name, stamp in folder.look():
                    folder.do(path, name, stamp)
                    stop_if_asked()
            except (InputError, OSError) as error:
                # A disk that is full or a folder that is gone may be back later; nothing is lost meanwhile.
                message, state = str(error), "lost"
            folder.show(state, message)
            ends = time.monotonic() + every
            while time.monotonic() < ends:
                stop_if_asked()
                time.sleep(min(0.2, every))
    finally:
        folder.telling.close()
