"""Objects of clips: what was found on their frames, linked so that each is counted once."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.tracks.linking import Linker, Track
from avocet.files import replacing
from avocet.work.use.running.looking import Row, with_weaker

TRACKS = "tracks.npz"

OBJECT_COLUMNS = (
    "object", "clip", "class", "first_frame", "last_frame", "first_seconds", "last_seconds", "frames_seen",
    "mean_score",
)  # fmt: skip


@dataclass
class ClipObjects:
    """Links the frames of one clip as they come.

    Attributes
    ----------
    name : str
    least : (C,) ndarray of float64
        Minimum scores.
    overlap_limit : float
    numbered_from : int
        The objects of earlier clips have the numbers up to here.
    """

    name: str
    least: NDArray[np.float64]
    overlap_limit: float
    numbered_from: int
    frames: list[int] = field(default_factory=list)
    seconds: list[float] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._linker = Linker(self.least)

    def step(self, row: Row, numbers: Mapping[str, int]) -> list[int]:
        """Take the next frame's row; the numbers of the objects of its boxes, 0 for none yet."""
        self.frames.append(row["frame"])
        self.seconds.append(row["seconds"])
        found = self._linker.step(with_weaker(row, numbers, self.least, self.overlap_limit))
        # The boxes that are told come first.
        told = found[: len(row["detections"])]
        return [int(each) + self.numbered_from if each else 0 for each in told]

    def tracks(self) -> list[Track]:
        """Its objects, by number."""
        return self._linker.tracks()

    def described(self, classes: Sequence[str]) -> list[dict[str, Any]]:
        """Its objects as rows of a table."""
        return [
            self._described(track, classes, number)
            for number, track in enumerate(self.tracks(), start=self.numbered_from + 1)
        ]

    def _described(self, track: Track, classes: Sequence[str], number: int) -> dict[str, Any]:
        first, last = int(track.frames[0]), int(track.frames[-1])
        values = (
            number, self.name, classes[track.kind], self.frames[first], self.frames[last], self.seconds[first],
            self.seconds[last], len(track.frames), round(float(track.scores.mean()), 4),
        )  # fmt: skip
        return dict(zip(OBJECT_COLUMNS, values, strict=True))


def write_tracks(clips: Sequence[ClipObjects], out: Path) -> None:
    """Every sight of every object as columns, weak boxes among them."""
    columns: dict[str, list[NDArray[Any]]] = {
        "clip": [], "object": [], "kind": [], "place": [], "box": [], "score": [], "told": [],
    }  # fmt: skip
    for number, clip in enumerate(clips):
        for which, track in enumerate(clip.tracks(), start=clip.numbered_from + 1):
            count = len(track.frames)
            columns["clip"].append(np.full(count, number))
            columns["object"].append(np.full(count, which))
            columns["kind"].append(np.full(count, track.kind))
            columns["place"].append(track.frames)
            columns["box"].append(track.boxes)
            columns["score"].append(track.scores)
            columns["told"].append(track.places)
    empty = {"box": np.zeros((0, 4))}
    joined: dict[str, Any] = {
        name: np.concatenate(each) if each else empty.get(name, np.zeros(0, np.int64))
        for name, each in columns.items()
    }
    with replacing(out / TRACKS) as temporary, temporary.open("wb") as opened:
        np.savez_compressed(opened, **joined)


def objects_by_class(objects: Sequence[Mapping[str, Any]], classes: Sequence[str]) -> dict[str, int]:
    """How many objects there are of each class."""
    counts = Counter(each["class"] for each in objects)
    return {name: counts[name] for name in classes}
