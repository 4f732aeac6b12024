"""A data folder: whether its database is whole, and every file there that the records name."""

import os
import shutil
import sqlite3
import tempfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from alembic.config import Config
from alembic.script import ScriptDirectory

from avocet.files import is_unfinished
from avocet.store.database import MIGRATIONS
from avocet.store.folder import DataFolder
from avocet.store.lock import is_served
from avocet.work.health.finding import Fitness, HealthFinding
from avocet.work.health.machine import size_of

LITTLE_ROOM = 1_000_000_000
"""Bytes of a disk: a run's checkpoints and a folder of results take some hundred million."""

MOST_NAMED = 3
"""Of many missing files so many are named."""


def look_at_data(folder: DataFolder) -> Iterator[HealthFinding]:
    """Everything about a data folder, without changing anything in it.

    It may be served meanwhile. Of files only is asked whether they are there, and as long as the records say.
    """
    yield _place(folder)
    yield _room(folder)
    if not folder.database.is_file():
        yield HealthFinding("Database", "none yet; serving this folder makes it", Fitness.NOTE)
        return
    try:
        with closing(sqlite3.connect(f"file:{folder.database}?mode=ro", uri=True, timeout=10)) as database:
            yield from _database(database)
            yield from _files(folder, database)
    except sqlite3.Error as error:
        yield HealthFinding("Database", f"{folder.database.name} cannot be read: {error}", Fitness.WRONG)


def _place(folder: DataFolder) -> HealthFinding:
    root = folder.root
    if not root.is_dir():
        parent = next((each for each in root.parents if each.is_dir()), Path("/"))
        fit = os.access(parent, os.W_OK)
        said = f"{root} is not there yet" + ("" if fit else f", and {parent} cannot be written")
        return HealthFinding("Data folder", said, Fitness.NOTE if fit else Fitness.WRONG)
    try:
        with tempfile.TemporaryFile(dir=root):
            pass
    except OSError as error:
        return HealthFinding("Data folder", f"{root} cannot be written: {error.strerror}", Fitness.WRONG)
    by = "a process" if is_served(folder) else "nobody"
    return HealthFinding("Data folder", f"{root}, served by {by} right now")


def _room(folder: DataFolder) -> HealthFinding:
    place = next(each for each in (folder.root, *folder.root.parents) if each.is_dir())
    free = shutil.disk_usage(place).free
    said = f"{size_of(free)} free where the data lies"
    return HealthFinding("Disk", said, Fitness.NOTE if free < LITTLE_ROOM else Fitness.WELL)


def _database(database: sqlite3.Connection) -> Iterator[HealthFinding]:
    (said,) = database.execute("PRAGMA quick_check(1)").fetchone()
    broken = database.execute("PRAGMA foreign_key_check").fetchmany(1)
    if said != "ok" or broken:
        what = said if said != "ok" else f"a row of {broken[0][0]} belongs to none of {broken[0][2]}"
        yield HealthFinding("Database", f"damaged: {what}. Restore a copy of the folder", Fitness.WRONG)
        return
    (revision,) = database.execute("SELECT version_num FROM alembic_version").fetchone()
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS).replace("%", "%%"))
    scripts = ScriptDirectory.from_config(config)
    known = {each.revision for each in scripts.walk_revisions()}
    if revision not in known:
        said = f"made by a later version ({revision}); install that one"
        yield HealthFinding("Database", said, Fitness.WRONG)
        return
    head = scripts.get_current_head()
    said = (
        "whole" if revision == head else f"whole; of version {revision}, brought to {head} when it is served"
    )
    yield HealthFinding("Database", said)


def _files(folder: DataFolder, database: sqlite3.Connection) -> Iterator[HealthFinding]:
    missing: list[str] = []
    pictures = size = 0
    query = "SELECT project_id, content_hash, suffix, name, path, file_size FROM picture"
    for project, digest, suffix, name, path, known in database.execute(query):
        pictures += 1
        place = Path(path) if path else folder.picture(project, digest, suffix)
        try:
            held = place.stat().st_size
        except OSError:
            missing.append(name)
            continue
        size += held
        if path and known is not None and held != known:
            missing.append(f"{name} (changed since)")
    clips = 0
    for project, digest, suffix, name in database.execute(
        "SELECT project_id, content_hash, suffix, name FROM clip"
    ):
        clips += 1
        if not folder.clip(project, digest, suffix).is_file():
            missing.append(name)
    for project, digest in database.execute("SELECT project_id, content_hash FROM snapshot"):
        if not folder.snapshot(project, digest).is_file():
            missing.append(f"snapshot {digest[:12]}")
    if missing:
        more = f" and {len(missing) - MOST_NAMED} more" if len(missing) > MOST_NAMED else ""
        yield HealthFinding("Files", f"missing: {', '.join(missing[:MOST_NAMED])}{more}", Fitness.WRONG)
    else:
        yield HealthFinding(
            "Files", f"all of {pictures:,} pictures ({size_of(size)}) and {clips} clips are there"
        )
    half = sum(is_unfinished(name) for _, _, names in os.walk(folder.root) for name in names)
    if half:
        said = f"{half} half-written files; swept when the folder is served"
        yield HealthFinding("Left over", said, Fitness.NOTE)
    at_work = database.execute("SELECT count(*) FROM job WHERE state IN ('running', 'waiting')").fetchone()[0]
    if at_work:
        yield HealthFinding("Jobs", f"{at_work} running or waiting")
