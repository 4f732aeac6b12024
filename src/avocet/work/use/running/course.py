"""The course of a run: what is done, how fast, what went wrong, and where the time goes."""

import time
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from avocet.core.errors import InputError
from avocet.media.clips import SUFFIXES as CLIP_SUFFIXES
from avocet.media.clips import clip_info
from avocet.work.progress import Reporter, Stopped
from avocet.work.use.running.copies import ANNOTATED
from avocet.work.use.running.looking import Row
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.record import RunRecord


@dataclass(frozen=True)
class Input:
    """A picture or a clip to run detection on, and what to call it in the results.

    ``white`` is the value that is white in a picture of more than 8 bits, once it is known.
    """

    path: Path
    name: str
    white: float | None = None

    @property
    def is_clip(self) -> bool:
        return Path(self.name).suffix.lower() in CLIP_SUFFIXES

    def frames(self, order: DetectionOrder) -> int:
        """How many pictures or frames it will be, as far as its header says."""
        if not self.is_clip:
            return 1
        try:
            about = clip_info(self.path, self.name)
            if order.a_second is not None and about.rate > order.a_second:
                return max(1, round(about.frames / about.rate * order.a_second))
            return max(1, about.frames // order.every)
        except InputError:
            return 1


@dataclass
class Course:
    """Counts what was done and tells of it.

    Attributes
    ----------
    record : RunRecord
    reporter : Reporter
    total : int
        Pictures and frames expected.
    boxes : Counter of str
    pictures_with : Counter of str
        Pictures and frames with at least one box of a class.
    """

    record: RunRecord
    reporter: Reporter
    total: int
    boxes: Counter[str] = field(default_factory=Counter)
    pictures_with: Counter[str] = field(default_factory=Counter)
    empty: int = 0
    pictures: int = 0
    problems: list[str] = field(default_factory=list)
    copies: list[str] = field(default_factory=list)
    stages: Counter[str] = field(default_factory=Counter)
    skipped: int = 0
    _begun: float = field(default_factory=time.monotonic)
    _busy: Callable[[], Mapping[str, float]] = dict

    def before(self, row: Row) -> None:
        """Count a row that an earlier attempt has recorded."""
        self._count(row)
        self.skipped += 1

    def add(self, row: Row) -> None:
        """Record a row and tell how far the run is. Raises `Stopped` where that was asked."""
        self.record.add(row)
        self._count(row)
        self.tell()

    def add_picture(self, row: Row) -> None:
        """Record a picture's row, and that it has a copy."""
        self.add(row)
        if "annotated" in row:
            self.copies.append(row["annotated"].removeprefix(f"{ANNOTATED}/"))

    def _count(self, row: Row) -> None:
        if "problem" in row:
            self.problem(row["problem"])
            return
        self.pictures += 1
        found = Counter(each["class"] for each in row["detections"])
        self.boxes += found
        self.pictures_with.update(set(found))
        self.empty += not found

    def problem(self, said: str) -> None:
        """Note what went wrong with one of many."""
        self.problems.append(said)

    def working(self, busy: Callable[[], Mapping[str, float]]) -> None:
        """Where the time of each stage that works now can be read."""
        self._busy = busy

    def ended(self) -> None:
        """The stages that worked are through."""
        self.stages.update(self._busy())
        self._busy = dict

    def tell(self) -> None:
        """Tell how far the run is. Raises `Stopped` where that was asked."""
        done = self.pictures + len(self.problems)
        fresh = done - self.skipped
        speed = fresh / max(1e-6, time.monotonic() - self._begun)
        total = max(self.total, done)
        self.reporter.progress(
            done, total, f"{done:,} of {total:,}, {speed:.1f} a second{slowest_of(self._busy())}"
        )
        if self.reporter.should_stop():
            raise Stopped

    @property
    def seconds(self) -> float:
        return time.monotonic() - self._begun

    def summary(self, classes: list[str]) -> dict[str, Any]:
        """What the run came to so far."""
        seconds = self.seconds
        fresh = self.pictures + len(self.problems) - self.skipped
        return {
            "pictures": self.pictures,
            "detections": self.boxes.total(),
            "by_class": {name: self.boxes[name] for name in classes},
            "pictures_with": {name: self.pictures_with[name] for name in classes},
            "empty": self.empty,
            "seconds": round(seconds, 2),
            "frames_per_second": round(fresh / seconds, 2) if seconds else None,
            "stages": {name: round(each, 2) for name, each in self.stages.items()},
            "problems": self.problems,
        }


def slowest_of(busy: Mapping[str, float]) -> str:
    """Which stage works the longest, in words; nothing where none has worked yet.

    Examples
    --------
    >>> slowest_of({"reading": 1.0, "network": 3.0}), slowest_of({"reading": 0.0})
    ('; most of the time goes into the network', '')
    """
    if not any(busy.values()):
        return ""
    name = max(busy, key=lambda each: busy[each])
    return f"; most of the time goes into {'the ' if name == 'network' else ''}{name}"
