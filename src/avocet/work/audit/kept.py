"""What looks wrong, as the last look found it: kept beside the project, and told whether it still holds."""

import datetime as dt
from dataclasses import dataclass
from typing import Any

from pydantic import TypeAdapter
from sqlalchemy.orm import Session

from avocet.files import write_bytes
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.store.tables import now
from avocet.work.audit.findings import TITLES, Finding, look_for_findings, marked_fine
from avocet.work.job_givens import ForProject
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FindingsMade
from avocet.work.labels.columns import project_stamp

_LIST = TypeAdapter(list[Finding])


@dataclass(frozen=True)
class KeptFindings:
    """The last look at a project's labels.

    Attributes
    ----------
    listed : list of Finding
        Those to look at, by kind; cut where there are very many.
    fine : list of Finding
        Those that a person found right.
    counts : dict of str to int
        All to look at, by kind.
    fresh : bool
        Whether no label changed since.
    looked_at : datetime or None
        None where nobody has looked yet.
    """

    listed: list[Finding]
    fine: list[Finding]
    counts: dict[str, int]
    fresh: bool
    looked_at: dt.datetime | None


def do_findings(task: Task[ForProject]) -> FindingsMade:
    """Look through all labels in the background, and keep what was found."""
    project_id = task.given.project_id
    with reading(task.sessions)() as session:
        stamp = project_stamp(session, project_id)
        found = look_for_findings(session, task.folder, project_id, task.reporter)
    kept: dict[str, Any] = {
        "stamp": stamp,
        "looked_at": now().isoformat(),
        "counts": found.counts,
        "listed": _LIST.dump_python(found.listed, mode="json"),
        "fine": _LIST.dump_python(found.fine, mode="json"),
    }
    write_bytes(task.folder.findings(project_id), TypeAdapter(dict[str, Any]).dump_json(kept))
    return FindingsMade(findings=sum(found.counts.values()))


def kept_findings(session: Session, folder: DataFolder, project_id: int) -> KeptFindings:
    """What the last look found. What was marked fine since, or is not any more, changes its place."""
    stamp = project_stamp(session, project_id)
    path = folder.findings(project_id)
    if not path.is_file():
        return KeptFindings([], [], {}, False, None)
    kept = TypeAdapter(dict[str, Any]).validate_json(path.read_bytes())
    listed, quiet = (_LIST.validate_python(kept[name]) for name in ("listed", "fine"))
    counts = dict(kept["counts"])
    fine = marked_fine(session, project_id)
    for finding in listed:
        counts[finding.kind] -= finding.key in fine
    for finding in quiet:
        if finding.key not in fine:
            counts[finding.kind] = counts.get(finding.kind, 0) + 1
    order = list(TITLES)
    everything = sorted([*listed, *quiet], key=lambda each: order.index(each.kind))
    return KeptFindings(
        [each for each in everything if each.key not in fine],
        [each for each in everything if each.key in fine],
        {kind: count for kind, count in counts.items() if count},
        stamp == kept["stamp"],
        dt.datetime.fromisoformat(kept["looked_at"]),
    )
