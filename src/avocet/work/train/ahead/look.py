"""What every look ahead at a run begins with: the labels it would learn from, and its settings in full."""

from avocet.detector.training.settings import Settings
from avocet.store.database import reading
from avocet.work.job_givens import LookAhead
from avocet.work.job_kinds import Task
from avocet.work.labels.columns import read_columns
from avocet.work.snapshots.frozen import Frozen
from avocet.work.snapshots.snapshots import labels_now
from avocet.work.train.ahead.choices import chosen_settings
from avocet.work.train.ahead.plan import plan_run
from avocet.work.train.ahead.run_labels import RunLabels, labels_of_project, labels_of_snapshot
from avocet.work.train.runs import labels_to_learn


def look_at_labels(task: Task[LookAhead]) -> tuple[RunLabels, Settings]:
    """The labels as columns, and the settings with what was left open chosen from them."""
    given = task.given
    with reading(task.sessions)() as session:
        if given.snapshot_id is None:
            labels = labels_of_project(session, given.project_id, read_columns(session, given.project_id))
        else:
            frozen, _ = labels_to_learn(session, task.folder, given.project_id, given.snapshot_id)
            labels = labels_of_snapshot(frozen)
    return labels, chosen_settings(plan_run(labels), given.settings)


def look_at_pictures_too(task: Task[LookAhead]) -> tuple[Frozen, Settings]:
    """The same with the pictures, for looks that read pixels."""
    given = task.given
    with reading(task.sessions)() as session:
        frozen = (
            labels_now(session, given.project_id)
            if given.snapshot_id is None
            else labels_to_learn(session, task.folder, given.project_id, given.snapshot_id)[0]
        )
    return frozen, chosen_settings(plan_run(labels_of_snapshot(frozen)), given.settings)
