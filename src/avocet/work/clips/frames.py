"""Which frames a clip has, found once and kept beside it, and readers of those that are looked at now."""

import io
import threading
import zipfile
from collections import OrderedDict
from dataclasses import dataclass

import numpy as np

from avocet.files import write_bytes
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
        self._held: OrderedDict[int, _Open] = OrderedDict()
        self._lock = threading.Lock()

    def index(self, clip: Clip) -> FrameIndex:
        """The clip's frames."""
        return self._opened(clip).index

    def reader(self, clip: Clip) -> FrameReader:
        """The clip's reader; others may be using it."""
        return self._opened(clip).reader

    def _opened(self, clip: Clip) -> _Open:
        with self._lock:
            found = self._held.get(clip.id)
        if found is None:
            index = frames_of_clip(self._folder, clip)
            found = _Open(index, FrameReader(clip_path(self._folder, clip), index, clip.name))
        with self._lock:
            found = self._held.setdefault(clip.id, found)
            self._held.move_to_end(clip.id)
            gone = [self._held.popitem(last=False)[1] for _ in range(len(self._held) - MOST_OPEN)]
        for each in gone:
            each.reader.close()
        return found
