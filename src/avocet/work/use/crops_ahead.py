"""Crops of boxes on a clip's frames, cut out as the clip is decoded, before each of them is asked for.

A clip is decoded from the nearest of a few places on: sixty boxes asked for one by one, in the order of their scores, would
decode most of it sixty times.
"""

import threading
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from concurrent.futures import CancelledError, Future
from contextlib import suppress
from pathlib import Path

from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.media.clips import frames_at
from avocet.store.folder import DataFolder
from avocet.store.tables import Detection
from avocet.work.problems import NotFound
from avocet.work.use.boxes import crop_of_frame
from avocet.work.use.found import Found
from avocet.work.use.inputs import input_named

MOST_CROPS = 2_000
"""Of a run; each has some kilobytes."""

MOST_RUNS = 4


def clips_of_boxes(
    session: Session, folder: DataFolder, detection: Detection, found: Found, numbers: Sequence[int]
) -> dict[str, Path]:
    """Where the clips are that boxes were found on, by name; those that are gone are left out."""
    looked = [found.looked[found.owner[each]] for each in numbers]
    places = {}
    for name in {each.name for each in looked if each.frame >= 0}:
        with suppress(NotFound):
            places[name] = input_named(session, folder, detection, name).path
    return places


class CropsAhead:
    """Crops of the runs whose boxes were looked at last."""

    def __init__(self) -> None:
        # What a run has found is held along with its crops, so that nothing else has its identity meanwhile.
        self._runs: OrderedDict[int, tuple[Found, OrderedDict[int, Future[bytes]]]] = OrderedDict()
        self._lock = threading.Lock()

    def begin(
        self, found: Found, numbers: Sequence[int], clips: Mapping[str, Path], anew: bool = False
    ) -> None:
        """Cut out boxes that will be asked for, in the background.

        Parameters
        ----------
        found : Found
        numbers : sequence of int
            As in `box_rows`. Only those on the clips are cut out.
        clips : mapping of str to Path
            Where each clip is, as `clips_of_boxes` finds them.
        anew : bool
            Nobody waits any more for what was begun before.
        """
        with self._lock:
            _, crops = self._runs.setdefault(id(found), (found, OrderedDict()))
            self._runs.move_to_end(id(found))
            while len(self._runs) > MOST_RUNS:
                self._runs.popitem(last=False)
            if anew:
                for number in [number for number, each in crops.items() if each.cancel()]:
                    del crops[number]
            new = [
                each
                for each in numbers
                if each not in crops and found.looked[found.owner[each]].name in clips
            ]
            if not new:
                return
            crops.update((each, Future()) for each in new)
            while len(crops) > max(MOST_CROPS, len(new)):
                crops.popitem(last=False)[1].cancel()
            mine = {each: crops[each] for each in new}
        threading.Thread(target=_cut, args=(found, mine, clips), name="crops ahead", daemon=True).start()

    def crop(self, found: Found, number: int) -> bytes | None:
        """A crop that was begun, once it is there; None for any other, which `crop_of` cuts out or says why not."""
        with self._lock:
            waiting = self._runs.get(id(found), (found, OrderedDict[int, Future[bytes]]()))[1].get(number)
        try:
            return waiting.result() if waiting is not None else None
        except CancelledError:
            return None


def _cut(found: Found, crops: dict[int, Future[bytes]], clips: Mapping[str, Path]) -> None:
    """Go through the frames of each clip once, and cut out what lies on each."""
    on: dict[int, list[int]] = {}
    for number in crops:
        on.setdefault(int(found.owner[number]), []).append(number)
    try:
        for name in {found.looked[place].name for place in on}:
            places = [place for place in on if found.looked[place].name == name]
            places.sort(key=lambda place: found.looked[place].seconds)
            moments = [found.looked[place].seconds for place in places]
            # A clip may be damaged at one place only: what is not cut out here is asked for alone.
            with suppress(InputError):
                for place, pixels in zip(places, frames_at(clips[name], moments, name), strict=True):
                    if all(each.done() for each in crops.values()):
                        return
                    for number in on[place]:
                        _answer(crops[number], crop_of_frame(pixels, found, number))
    finally:
        for each in crops.values():
            each.cancel()


def _answer(waiting: Future[bytes], crop: bytes) -> None:
    if waiting.set_running_or_notify_cancel():
        waiting.set_result(crop)
