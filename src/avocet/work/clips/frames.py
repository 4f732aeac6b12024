"""Which frames a clip has, found once and kept beside it, and readers of those that are looked at now."""

import io
import threading
import zipfile
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.files import write_bytes
from avocet.media.clips import frame_at
from avocet.media.frames import FrameIndex, FrameReader, index_frames
from avocet.store.folder import DataFolder
from avocet.store.tables import Clip
from avocet.work.clips.clips import clip_path
from avocet.work.problems import NotFound

MOST_OPEN = 3
"""Clips that are looked at are open at once, at most."""


def frames_of_clip(folder: DataFolder, clip: Clip) -> FrameIndex:
    """The clip's frames; the first time they are found from its file, which takes a second or two for an hour.

    Raises
    ------
    NotFound
        If its file is gone.
    InputError
        If it cannot be read.
    """
    path, kept = clip_path(folder, clip), folder.clip_frames(clip.project_id, clip.content_hash)
    if not path.is_file():
        raise NotFound(f"the file of {clip.name} is gone")
    if kept.is_file():
        try:
            with np.load(kept, allow_pickle=False) as found:
                return FrameIndex(
                    found["seconds"], found["stamps"], int(found["size"][0]), int(found["size"][1])
                )
        except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile):
            # Half a file, or one of another version: found again.
            pass
    index = index_frames(path, clip.name)
    written = io.BytesIO()
    np.savez_compressed(
        written, seconds=index.seconds, stamps=index.stamps, size=np.array([index.width, index.height])
    )
    write_bytes(kept, written.getvalue())
    return index


@dataclass(frozen=True)
class _Open:
    index: FrameIndex
    reader: FrameReader


class OpenClips:
    """Readers of the clips that were looked at last, for a server that gives out single frames.

    Parameters
    ----------
    folder : DataFolder
    """

    def __init__(self, folder: DataFolder) -> None:
        self._folder = folder
        self._held: OrderedDict[Hashable, _Open] = OrderedDict()
        self._lock = threading.Lock()

    def index(self, clip: Clip) -> FrameIndex:
        """The clip's frames."""
        return self._opened(clip).index

    def reader(self, clip: Clip) -> FrameReader:
        """The clip's reader; others may be using it."""
        return self._opened(clip).reader

    def shown_at(self, path: Path, seconds: float, name: str) -> NDArray[np.uint8]:
        """The frame of any clip that is shown at a moment: its neighbours are at hand when they are asked for next.

        Raises
        ------
        InputError
            If it cannot be read there.
        """
        try:
            seen = path.stat()
            key = (path, seen.st_size, seen.st_mtime_ns)
            opened = self._open(key, path, name, lambda: index_frames(path, name))
        except (OSError, InputError):
            # Gone, damaged from its beginning, or too long to be gone through: said by whoever looks at this place only.
            return frame_at(path, seconds, name)
        times = opened.index.seconds
        half = (times[-1] - times[0]) / max(1, len(times) - 1) / 2
        return opened.reader.frame(max(0, int(np.searchsorted(times, seconds + half, side="right")) - 1))

    def _opened(self, clip: Clip) -> _Open:
        path = clip_path(self._folder, clip)
        return self._open(clip.id, path, clip.name, lambda: frames_of_clip(self._folder, clip))

    def _open(self, key: Hashable, path: Path, name: str, find: Callable[[], FrameIndex]) -> _Open:
        with self._lock:
            found = self._held.get(key)
        if found is None:
            index = find()
            found = _Open(index, FrameReader(path, index, name))
        with self._lock:
            found = self._held.setdefault(key, found)
            self._held.move_to_end(key)
            gone = [self._held.popitem(last=False)[1] for _ in range(len(self._held) - MOST_OPEN)]
        for each in gone:
            each.reader.close()
        return found
