"""What live work shows now: one small file that is replaced many times a second, read by the page."""

import base64
import contextlib
import json
import os
import time
from collections import Counter, deque
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.files import write_text
from avocet.media.pictures import encode_jpeg, no_larger

NEWEST, CONTROL = "newest.json", "control.json"

LONGEST = 960
"""Pixels of the longer side of what is shown."""

OF_A_PICTURE = ("width", "height", "captured", "boxes", "scores", "kinds", "objects")
"""What is said of the picture that is shown, and holds for as long as it is."""

MINUTE = 60.0


class Shown:
    """Writes what is shown.

    Parameters
    ----------
    place : Path
        Its folder.
    """

    def __init__(self, place: Path) -> None:
        self._place = place
        place.mkdir(parents=True, exist_ok=True)
        # Whoever opens the page later sees the last picture there was, also that of an earlier attempt.
        before = shown_now(place) or {}
        self._picture = {name: before[name] for name in (*OF_A_PICTURE, "number", "jpeg") if name in before}

    def show(self, said: dict[str, Any], pixels: NDArray[np.uint8] | None) -> None:
        """Replace what is shown; without pixels the last picture stays.

        Nobody minds one that is lost with the power, so it is not flushed to the disk.
        """
        if pixels is not None:
            self._picture = {name: said[name] for name in OF_A_PICTURE if name in said} | {
                "number": self._picture.get("number", 0) + 1,
                "jpeg": base64.b64encode(encode_jpeg(no_larger(pixels, LONGEST), quality=80)).decode(),
            }
        shown = {"number": 0, "jpeg": None} | self._picture | {"written": time.time()}
        content = json.dumps(said | shown, ensure_ascii=False)
        temporary = self._place / f".newest-{os.getpid()}-{id(self):x}.json"
        with contextlib.suppress(OSError):
            temporary.write_text(content, encoding="utf-8")
            temporary.replace(self._place / NEWEST)

    def wishes(self) -> dict[str, Any]:
        """What a person wishes meanwhile, such as a recording."""
        try:
            said = json.loads((self._place / CONTROL).read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return {}
        return said if isinstance(said, dict) else {}


def shown_now(place: Path) -> dict[str, Any] | None:
    """What is shown, or None before the first time."""
    try:
        said: dict[str, Any] = json.loads((place / NEWEST).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return None
    return said


def wish(place: Path, said: dict[str, Any]) -> None:
    """Leave a wish for the work that goes on."""
    write_text(place / CONTROL, json.dumps(said))


class LastMinute:
    """Counts what came within the last minute, by class, and how often in the last seconds.

    Examples
    --------
    >>> counts = LastMinute()
    >>> counts.add("roll", 0.0), counts.add("roll", 30.0), counts.add("ring", 61.0)
    (None, None, None)
    >>> counts.by_name(62.0)
    {'roll': 1, 'ring': 1}
    """

    def __init__(self, seconds: float = MINUTE) -> None:
        self._seconds = seconds
        self._came: deque[tuple[float, str]] = deque()

    def add(self, name: str, at: float) -> None:
        """One more."""
        self._came.append((at, name))

    def by_name(self, at: float) -> dict[str, int]:
        """How many there were of each in the time before a moment."""
        while self._came and self._came[0][0] < at - self._seconds:
            self._came.popleft()
        return dict(Counter(name for _, name in self._came))

    def a_second(self, at: float) -> float:
        """How many a second there were, over the time since the first that is counted."""
        self.by_name(at)
        if len(self._came) < 2:
            return 0.0
        return (len(self._came) - 1) / max(self._came[-1][0] - self._came[0][0], 1e-6)
