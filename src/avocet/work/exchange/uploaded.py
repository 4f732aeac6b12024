"""Annotation files that were uploaded: looked at, and taken over when the person says so."""

from dataclasses import asdict

from avocet.formats.table import Columns
from avocet.store.database import reading
from avocet.work.exchange.project_labels import preview
from avocet.work.exchange.taking import take_over
from avocet.work.job_givens import ChosenLabels, SentLabels
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import LabelsRead, LabelsTaken
from avocet.work.pictures.staging import staged_labels, unstage

MOST_LINES = 500
"""Names and problems of a file that are shown one by one; all are counted."""


def read_uploaded(task: Task[SentLabels]) -> LabelsRead:
    """What taking uploaded files over would do; nothing is changed."""
    given = task.given
    with staged_labels(task.folder, given.token) as files, reading(task.sessions)() as session:
        found = preview(session, given.project_id, files, given.format, _columns(given), given.corners)
    shown = asdict(found)
    for name in ("labelled", "missing", "problems"):
        shown[f"{name}_count"], shown[name] = len(shown[name]), shown[name][:MOST_LINES]
    return LabelsRead.model_validate(shown)


def take_uploaded(task: Task[ChosenLabels]) -> LabelsTaken:
    """Take uploaded files over, with targets of classes and ``replace`` as in `take_over`."""
    given = task.given
    with staged_labels(task.folder, given.token) as files:
        taken = take_over(
            task.sessions, given.project_id, files, task.reporter, given.format, _columns(given), given.targets,
            given.replace, given.corners,
        )  # fmt: skip
    unstage(task.folder, given.token)
    return taken


def _columns(given: SentLabels) -> Columns | None:
    chosen = given.columns
    if chosen is None:
        return None
    return Columns(chosen.picture, chosen.label, chosen.kind, tuple(chosen.values), chosen.fractions)
