"""Pictures that came to an address and were kept, taken into its project for labelling."""

import json

from avocet.core.errors import InputError
from avocet.store.database import reading
from avocet.work.addresses.addresses import get_address, kept_file
from avocet.work.job_givens import KeptToCollect
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FoundCollected
from avocet.work.pictures.adding import Arrival, take_picture
from avocet.work.problems import NotFound
from avocet.work.progress import Stopped
from avocet.work.use.proposals import keep_proposals, model_named


def do_collect_kept(task: Task[KeptToCollect]) -> FoundCollected:
    """Take kept pictures into the project with what was found on them as proposals; they are kept no more."""
    folder, given = task.folder, task.given
    with reading(task.sessions)() as session:
        address = get_address(session, given.address_id)
        model = model_named(address.answering.run_id, address.answering.ensemble_id)
    added, there, refused, ids = 0, 0, 0, []
    for done, name in enumerate(given.files, start=1):
        if task.reporter.should_stop():
            raise Stopped
        try:
            path = kept_file(folder, address, name)
            row = json.loads(path.with_suffix(".json").read_text(encoding="utf-8"))["row"]
            arrival = Arrival(path, f"{address.name}-{path.name}", source=f"Address {address.name}")
            taken = take_picture(task.sessions, folder, address.project_id, arrival)
        except (NotFound, InputError, OSError, ValueError):
            refused += 1
            continue
        added, there = added + taken.fresh, there + (not taken.fresh)
        ids.append(taken.picture.id)
        with task.sessions.begin() as session:
            keep_proposals(session, taken.picture.id, row["detections"], model)
        path.with_suffix(".json").unlink(missing_ok=True)
        path.unlink(missing_ok=True)
        task.reporter.progress(done, len(given.files), f"{done} of {len(given.files)}")
    return FoundCollected(added=added, already_there=there, refused=refused, picture_ids=ids)
