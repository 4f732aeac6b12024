"""All labels of the projects that are open, kept in memory and brought up to date when they are asked for."""

import contextlib
import threading
import time
from collections import OrderedDict

from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.work.labels.columns import LabelColumns, brought_up_to_date, read_columns
from avocet.work.problems import NotFound
from avocet.work.snapshots.snapshots import get_snapshot
from avocet.work.train.ahead.run_labels import RunLabels, labels_beside, labels_of_project

MOST_PROJECTS = 4


class KeptLabels:
    """Labels of the projects that were asked for last.

    Reading 600,000 boxes takes a second or two, bringing them up to date a tenth: so they are read
    when a project is opened, and by the time somebody asks for figures they are there.

    Parameters
    ----------
    reading : Sessions
    """

    def __init__(self, reading: Sessions) -> None:
        self._reading = reading
        self._held: OrderedDict[int, LabelColumns] = OrderedDict()
        self._frozen: dict[str, RunLabels] = {}
        self._locks: dict[int, threading.Lock] = {}
        self._lock = threading.Lock()
        self._warming: set[int] = set()
        self._resting: dict[int, float] = {}

    def of(self, project_id: int) -> LabelColumns:
        """The project's labels as they are now. Raises `NotFound` where there is no such project."""
        with self._lock:
            own = self._locks.setdefault(project_id, threading.Lock())
        with own, self._reading() as session:
            before = self._held.get(project_id)
            now = (
                read_columns(session, project_id)
                if before is None
                else brought_up_to_date(session, project_id, before)
            )
        with self._lock:
            self._held[project_id] = now
            self._held.move_to_end(project_id)
            while len(self._held) > MOST_PROJECTS:
                self._held.popitem(last=False)
        return now

    def for_run(self, folder: DataFolder, project_id: int, snapshot_id: int | None) -> RunLabels:
        """The labels that a run would learn from: as they are now, or as a snapshot holds them."""
        if snapshot_id is None:
            columns = self.of(project_id)
            with self._reading() as session:
                return labels_of_project(session, project_id, columns)
        with self._reading() as session:
            snapshot = get_snapshot(session, snapshot_id)
        if snapshot.project_id != project_id:
            raise NotFound(f"the project has no snapshot {snapshot_id}")
        if snapshot.content_hash not in self._frozen:
            if len(self._frozen) >= MOST_PROJECTS:
                self._frozen.clear()
            self._frozen[snapshot.content_hash] = labels_beside(folder, snapshot)
        return self._frozen[snapshot.content_hash]

    def warm_up(self, project_id: int) -> bool:
        """Read the project's labels in the background, or what changed of them; returns whether it begins to.

        Not while it is under way, nor for twice as long as it took: whoever asks beside a change to
        very many pictures finds most of them read, and the server still has its time for others.
        """
        with self._lock:
            if project_id in self._warming or time.monotonic() < self._resting.get(project_id, 0.0):
                return False
            self._warming.add(project_id)
        threading.Thread(target=self._try, args=(project_id,), name="labels", daemon=True).start()
        return True

    def _try(self, project_id: int) -> None:
        begun = time.monotonic()
        try:
            # Whoever asks for them gets the error.
            with contextlib.suppress(Exception):
                self.of(project_id)
        finally:
            ended = time.monotonic()
            with self._lock:
                self._warming.discard(project_id)
                self._resting[project_id] = ended + 2 * (ended - begun)
