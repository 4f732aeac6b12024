"""Annotation files that were uploaded: looked at, and taken over when the person says so."""

from dataclasses import asdict
from typing import Any

from sqlalchemy.orm import Session, sessionmaker

from avocet.formats.table import Columns
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.work.exchange import preview, take_over
from avocet.work.progress import Reporter
from avocet.work.staging import staged_labels, unstage

MOST_LINES = 500
"""Names and problems of a file that are shown one by one; all are counted."""


def read_uploaded(
    sessions: sessionmaker[Session], folder: DataFolder, given: dict[str, Any]
) -> dict[str, Any]:
    """What taking uploaded files over would do, as the page gets it.

    ``given`` holds ``project_id`` and ``token``, and may hold ``format`` and ``columns``.
    """
    with staged_labels(folder, given["token"]) as files, reading(sessions)() as session:
        found = preview(session, given["project_id"], files, given.get("format"), _columns(given))
    shown = asdict(found)
    for name in ("labelled", "missing", "problems"):
        shown[f"{name}_count"], shown[name] = len(shown[name]), shown[name][:MOST_LINES]
    return shown


def take_uploaded(
    sessions: sessionmaker[Session], folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    """Take uploaded files over, with ``targets`` of classes and ``replace`` as in `take_over`."""
    project_id, form, columns = given["project_id"], given.get("format"), _columns(given)
    with staged_labels(folder, given["token"]) as files:
        taken = take_over(
            sessions, project_id, files, reporter, form, columns, given["targets"], given["replace"]
        )
    unstage(folder, given["token"])
    return asdict(taken)


def _columns(given: dict[str, Any]) -> Columns | None:
    chosen = given.get("columns")
    return (
        Columns(chosen["picture"], chosen["label"], chosen["kind"], tuple(chosen["values"]))
        if chosen
        else None
    )
