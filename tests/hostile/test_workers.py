"""Workers under a full disk, without memory, and killed: each job ends, and the next one is done."""

import errno
import io
import subprocess
import sys
import time

import pytest
from sqlalchemy.exc import OperationalError

from avocet.core.errors import InputError
from avocet.files import is_unfinished, write_bytes
from avocet.jobs import keeping, worker
from avocet.jobs.keeping import KeptProcess
from avocet.jobs.worker import memory_for, run_job
from avocet.media.pictures import encode_jpeg
from avocet.store.tables import JobState
from avocet.web.app import create_app
from avocet.work.job_givens import ForProject
from avocet.work.job_kinds import LOOK_AT_PICTURES, Lane
from avocet.work.job_outcomes import PicturesSeen
from avocet.work.jobs import create_job, get_job, list_jobs
from avocet.work.pictures.staging import sweep
from avocet.work.project.projects import create_project

DOES = "avocet.work.pictures.thumbnails.do_looking"


def waiting(sessions, project_id):
    with sessions.begin() as session:
        return create_job(session, project_id, LOOK_AT_PICTURES, "Look", ForProject(project_id=project_id)).id


def test_the_end_of_a_job_is_recorded_as_soon_as_there_is_room(data, labelled, monkeypatch):
    folder, sessions = data
    job_id = waiting(sessions, labelled)
    monkeypatch.setattr(DOES, lambda task: PicturesSeen(pictures=3))
    real, refused = worker.finish, []

    def full_twice(*given, **more):
        if len(refused) < 2:
            refused.append(1)
            raise OperationalError("UPDATE", {}, Exception("database or disk is full"))
        return real(*given, **more)

    monkeypatch.setattr(worker, "finish", full_twice)
    monkeypatch.setattr(worker, "TRY_AGAIN", 0.01)
    run_job(sessions, folder, job_id)
    with sessions() as session:
        job = get_job(session, job_id)
        assert job.state == JobState.DONE and job.outcome["pictures"] == 3 and len(refused) == 2


def test_a_job_without_memory_fails_in_words_and_the_next_is_done(data, labelled, monkeypatch):
    folder, sessions = data

    def greedy(task):
        raise MemoryError

    monkeypatch.setattr(DOES, greedy)
    first = waiting(sessions, labelled)
    run_job(sessions, folder, first)
    monkeypatch.setattr(DOES, lambda task: PicturesSeen(pictures=0))
    second = waiting(sessions, labelled)
    run_job(sessions, folder, second)
    with sessions() as session:
        assert get_job(session, first).state == JobState.FAILED
        assert "more memory than a worker may take" in get_job(session, first).message
        assert get_job(session, second).state == JobState.DONE


def test_what_is_told_does_not_say_where_the_data_folder_lies(data, labelled, frames, monkeypatch):
    folder, sessions = data
    client = create_app(folder, sessions, lambda *_: None).test_client()
    picture = encode_jpeg(frames[5].pixels[::-1])

    def full(_descriptor):
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr("os.fsync", full)

    def unwritten(task):
        told = PicturesSeen(pictures=0, unreadable=1, messages=[f"{folder.root}/a.jpg cannot be written"])
        if task.given.project_id == labelled:
            return told
        raise InputError(told.messages[0])

    monkeypatch.setattr(DOES, unwritten)
    with sessions.begin() as session:
        other = create_project(session, "Other").id
    jobs = [waiting(sessions, labelled), waiting(sessions, other)]
    for job_id in jobs:
        run_job(sessions, folder, job_id)
    sent = client.post(
        "/api/v1/projects/1/media", data={"files": [(io.BytesIO(picture), "new.jpg")]},
        content_type="multipart/form-data",
    )  # fmt: skip
    folder.thumbnail(labelled, "x").parent.parent.mkdir(exist_ok=True)
    for each in folder.thumbnail(labelled, "x").parent.parent.rglob("*.jpg"):
        each.unlink()
    drawn = client.get("/api/v1/pictures/1/thumbnail")
    told = [sent.text, drawn.text, *(client.get(f"/api/v1/jobs/{each}").text for each in jobs)]
    assert all("cannot be written" in each for each in told), told
    assert not any(str(folder.root) in each for each in told), told


def test_the_ceiling_of_a_worker_holds():
    """In a process of its own: two gigabytes more than it may take are refused, and it goes on."""
    code = """
from avocet.jobs.worker import limit_memory
import numpy as np
limit_memory(1_000_000_000)
try:
    np.ones(2_000_000_000, np.uint8)
except MemoryError:
    print("refused", np.ones(1000).sum())
"""
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert told.stdout.strip() == "refused 1000.0", told.stderr
    assert memory_for(Lane.COMPUTE) > memory_for(Lane.MEDIA) >= 2 * 1024**3


def test_what_no_text_can_hold_breaks_neither_job_nor_list(data, labelled, monkeypatch):
    folder, sessions = data

    def strange(task):
        raise ValueError("bad name \udcff\ud800")

    monkeypatch.setattr(DOES, strange)
    # What is logged is kept by the tests' own reports, which cannot hold it either.
    monkeypatch.setattr(worker.log, "exception", lambda *_: None)
    job_id = waiting(sessions, labelled)
    run_job(sessions, folder, job_id)
    with sessions() as session:
        listed = list_jobs(session, labelled)
        assert listed[0].message.endswith(r"bad name \xff\ud800")


def test_a_worker_that_ends_at_once_is_started_ever_more_slowly(monkeypatch):
    started = []

    class Ended:
        pid, exitcode = None, 1

        def join(self):
            pass

        def terminate(self):
            pass

    def start(*_):
        started.append(time.monotonic())
        if len(started) == 2:
            raise BlockingIOError("Resource temporarily unavailable")
        return Ended()

    monkeypatch.setattr(keeping, "start_process", start)
    monkeypatch.setattr(keeping, "PAUSE", 0.05)
    monkeypatch.setattr(keeping, "LONGEST_PAUSE", 0.4)
    kept = KeptProcess("media", "avocet.jobs.worker:work", (), pause=0.05)
    kept.want()
    time.sleep(1.6)
    kept.end()
    kept._thread.join(timeout=10)
    # Begun anew every twentieth of a second it would be thirty times.
    assert 3 <= len(started) <= 9


@pytest.mark.parametrize("kind", ["incoming", "half written", "whole", "foreign"])
def test_what_a_killed_server_left_is_swept_and_nothing_else(data, kind, monkeypatch):
    folder = data[0]
    monkeypatch.setattr("avocet.work.pictures.staging.UNFINISHED_SECONDS", -1)
    path = {
        "incoming": folder.incoming / "sent-abc.jpg",
        "half written": folder.picture(1, "ab" * 32, ".jpg").parent / ".ababab-x1y2z3_a.jpg",
        "whole": folder.picture(1, "ab" * 32, ".jpg"),
        "foreign": folder.root / ".my-notes_ab.txt",
    }[kind]
    write_bytes(path, b"content")
    sweep(folder)
    assert path.is_file() == (kind in ("whole", "foreign"))
    assert is_unfinished(path.name) == (kind == "half written") or kind == "foreign"
