"""The worker process: takes jobs from the queue and does them."""

import logging
import os
import signal
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from huey.consumer import Consumer
from sqlalchemy.orm import Session, sessionmaker

from avocet.core.errors import InputError
from avocet.jobs.queue import LANES, open_queue
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import JobState
from avocet.work.archiving import archive_snapshot
from avocet.work.intake import take_archive, take_folder
from avocet.work.jobs import JobReporter, claim, finish, mark_interrupted, waiting_jobs
from avocet.work.label_files import read_uploaded, take_uploaded
from avocet.work.media import sample_clip
from avocet.work.problems import NotFound
from avocet.work.progress import Reporter, Stopped
from avocet.work.sheets import look_at_crops
from avocet.work.staging import remove_old, staged_files, unstage
from avocet.work.thumbnails import look_at_pictures

log = logging.getLogger(__name__)

Sessions = sessionmaker[Session]
Action = Callable[[Sessions, DataFolder, dict[str, Any], Reporter], dict[str, Any]]


def _train(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:

    from avocet.work.training import train_run

    return train_run(sessions, folder, given["run_id"], reporter)


def _study(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    from avocet.work.studying import run_study

    return run_study(sessions, folder, given["study_id"], reporter)


def _cluster_anchors(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    from avocet.work.anchor_views import cluster_for_page

    return cluster_for_page(sessions, folder, given, reporter)


def _preview(name: str) -> Action:
    """One of the looks ahead, which need torch."""

    def look(
        sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
    ) -> dict[str, Any]:
        from avocet.work import previews

        done: dict[str, Any] = getattr(previews, name)(sessions, folder, given, reporter)
        return done

    return look


def _evaluate(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    from avocet.work.evaluating import run_evaluation

    return run_evaluation(sessions, folder, given["evaluation_id"], reporter)


def _detect(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:

    from avocet.work.using import run_detection

    return run_detection(sessions, folder, given["detection_id"], given, reporter)


def _sample_clip(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    return dict(sample_clip(sessions, folder, given["clip_id"], given["per_second"], reporter))


def _take_archive(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    path, name = staged_files(folder, given["token"])[0]
    outcome = take_archive(sessions, folder, given["project_id"], path, name, reporter)
    if not outcome["labels"]:
        unstage(folder, given["token"])
    return outcome


def _take_folder(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    path, copied = Path(given["path"]), given["copied"]
    return take_folder(sessions, folder, given["project_id"], path, copied, reporter)


def _look_at_pictures(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    return dict(look_at_pictures(sessions, folder, given["project_id"], reporter))


def _read_labels(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    return read_uploaded(sessions, folder, given)


def _look_at_crops(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    return dict(look_at_crops(sessions, folder, given["project_id"], reporter))


def _archive_snapshot(
    sessions: Sessions, folder: DataFolder, given: dict[str, Any], reporter: Reporter
) -> dict[str, Any]:
    snapshot_id, job_id, form = given["snapshot_id"], given["job_id"], given["format"]
    return dict(
        archive_snapshot(sessions, folder, snapshot_id, form, given["with_pictures"], job_id, reporter)
    )


# Torch is imported with the first job that needs it, so that workers are up at once.
ACTIONS: dict[str, Action] = {
    "train": _train,
    "study": _study,
    "cluster_anchors": _cluster_anchors,
    "draw_augmented": _preview("draw_augmented"),
    "sum_up_sizes": _preview("sum_up_sizes"),
    "probe_run": _preview("probe_run"),
    "try_model": _preview("try_model"),
    "take_apart": _preview("take_apart"),
    "find_boxes": _preview("find_boxes"),
    "evaluate": _evaluate,
    "detect": _detect,
    "sample_clip": _sample_clip,
    "take_archive": _take_archive,
    "take_folder": _take_folder,
    "look_at_pictures": _look_at_pictures,
    "read_labels": _read_labels,
    "take_labels": take_uploaded,
    "look_at_crops": _look_at_crops,
    "archive_snapshot": _archive_snapshot,
}


def run_job(sessions: Sessions, folder: DataFolder, job_id: int) -> None:
    """Do one job and record how it ended, whatever happens."""
    with sessions.begin() as session:
        job = claim(session, job_id)
        if job is None:
            return
        kind, arguments = job.kind, dict(job.arguments)
    try:
        outcome = ACTIONS[kind](sessions, folder, arguments, JobReporter(sessions, job_id))
    except Stopped:
        _end(sessions, job_id, JobState.STOPPED, "Stopped; what was done is kept")
    except (InputError, NotFound) as error:
        _end(sessions, job_id, JobState.FAILED, str(error))
    except Exception as error:
        log.exception("job %d failed", job_id)
        _end(sessions, job_id, JobState.FAILED, f"Unexpected error: {type(error).__name__}: {error}")
    else:
        with sessions.begin() as session:
            finish(session, job_id, JobState.DONE, outcome=outcome)


def work(folder: DataFolder, lane: str, parent: int) -> None:
    """Work through a lane until the process is asked to end or the process ``parent`` is gone."""
    threading.Thread(target=_end_with, args=(parent,), name="parent", daemon=True).start()
    sessions = open_database(folder.database)
    with sessions.begin() as session:
        # Whatever still says it is running was left by a worker that was killed.
        mark_interrupted(session, set(LANES[lane]))
        waiting = waiting_jobs(session, set(LANES[lane]))
    remove_old(folder)
    queue, task = open_queue(folder, lane, lambda job_id: run_job(sessions, folder, job_id))
    for job_id in waiting:
        # A server killed between recording and queueing leaves jobs that nobody would take up.
        # One that is queued twice is done once: the second time it no longer waits.
        task(job_id)
    Consumer(queue, workers=1, periodic=False, initial_delay=0.05, max_delay=0.5, backoff=1.3).run()


def _end_with(parent: int) -> None:
    """End this process once its parent is gone, so that no worker outlives the server."""
    while os.getppid() == parent:
        time.sleep(1)
    os.kill(os.getpid(), signal.SIGTERM)


def _end(sessions: Sessions, job_id: int, state: JobState, message: str) -> None:
    with sessions.begin() as session:
        finish(session, job_id, state, message)
