"""The queue and the worker processes: work is done, crashes are survived, nothing is left behind."""

import os
import signal
import subprocess
import sys
from typing import get_type_hints

import numpy as np
import psutil
import pytest

from avocet.core.errors import InputError
from avocet.jobs import keeping
from avocet.jobs.forking import start_process
from avocet.jobs.keeping import KeptProcess
from avocet.jobs.queue import Queues, open_queue
from avocet.jobs.supervisor import Supervisor
from avocet.jobs.worker import run_job
from avocet.media.clip_writer import ClipWriter
from avocet.store.tables import JobState
from avocet.work.clips.clips import add_clip
from avocet.work.job_givens import ClipFrames
from avocet.work.job_kinds import KINDS, SAMPLE_CLIP, Lane, Task, kinds_of
from avocet.work.job_outcomes import FramesTaken
from avocet.work.jobs import claim, create_job, get_job, list_jobs
from avocet.work.problems import NotFound
from avocet.work.progress import Stopped
from avocet.work.project.projects import create_project
from tests.waiting import wait_for

FRAMES = ClipFrames(clip_id=7, per_second=10)


@pytest.fixture
def project_id(data):
    with data[1].begin() as session:
        return create_project(session, "Belt").id


@pytest.fixture
def clip_id(data, project_id, tmp_path):
    """A clip of ten frames that differ."""
    folder, sessions = data
    path = tmp_path / "belt.mp4"
    random = np.random.default_rng(0)
    with ClipWriter(path, 64, 48, 10) as writer:
        for _ in range(10):
            writer.write(
                np.kron(random.integers(0, 255, (6, 8, 3), dtype=np.uint8), np.ones((8, 8, 1), np.uint8))
            )
    with sessions.begin() as session:
        return add_clip(session, folder, project_id, path, "belt.mp4").id


def state_of(data, job_id):
    with data[1]() as session:
        return get_job(session, job_id).state


def sampling_job(data, project_id, clip_id):
    with data[1].begin() as session:
        return create_job(
            session, project_id, SAMPLE_CLIP, "Take frames", ClipFrames(clip_id=clip_id, per_second=10)
        ).id


@pytest.mark.parametrize("kind", KINDS.values(), ids=lambda kind: kind.key)
def test_every_kind_of_job_names_a_function_that_takes_and_gives_what_it_says(kind):
    hints = get_type_hints(kind.action())
    assert hints["task"] == Task[kind.given] and hints["return"] is kind.outcome
    assert kind.key in kinds_of(kind.lane) and sum(kind.key in kinds_of(lane) for lane in Lane) == 1


@pytest.mark.slow
@pytest.mark.parametrize(
    ("error", "state", "message"),
    [
        (Stopped(), JobState.STOPPED, "what was done is kept"),
        (InputError("belt.mp4 is damaged"), JobState.FAILED, "belt.mp4 is damaged"),
        (NotFound("there is no clip 7"), JobState.FAILED, "there is no clip 7"),
        (ZeroDivisionError("by zero"), JobState.FAILED, "Unexpected error: ZeroDivisionError: by zero"),
        (None, JobState.DONE, ""),
    ],
)
def test_however_it_ends_it_is_recorded(data, project_id, monkeypatch, error, state, message):
    def action(task):
        assert task.given.clip_id == 7
        task.reporter.progress(2, 5, "two of five")
        if error:
            raise error
        return FramesTaken(added=5, already_there=0)

    monkeypatch.setattr("avocet.work.clips.sampling.do_sampling", action)
    with data[1].begin() as session:
        job_id = create_job(session, project_id, SAMPLE_CLIP, "Take frames", FRAMES).id
    run_job(data[1], data[0], job_id)
    with data[1]() as session:
        job = get_job(session, job_id)
        assert job.state == state and message in job.message and job.ended_at >= job.started_at
        assert (job.done, job.outcome) == (
            (5, {"added": 5, "already_there": 0, "boxes": 0}) if error is None else (2, {})
        )


def test_a_job_is_done_once(data, project_id, monkeypatch):
    done = []
    taken = FramesTaken(added=0, already_there=0)
    monkeypatch.setattr("avocet.work.clips.sampling.do_sampling", lambda task: done.append(1) or taken)
    with data[1].begin() as session:
        job_id = create_job(session, project_id, SAMPLE_CLIP, "Take frames", FRAMES).id
    run_job(data[1], data[0], job_id)
    run_job(data[1], data[0], job_id)
    run_job(data[1], data[0], 999)
    assert done == [1]


def test_the_queue_outlives_the_process_that_filled_it(data):
    folder, _ = data
    Queues(folder).enqueue(11, "train")
    Queues(folder).enqueue(12, "sample_clip")
    Queues(folder).enqueue(13, "detect")
    Queues(folder).enqueue(14, "try_model")
    Queues(folder).enqueue(15, "set_part")
    Queues(folder).enqueue(16, "train_apart")
    taken = {}
    for lane in Lane:
        seen = []
        queue, _task = open_queue(folder, lane, seen.append)
        while (task := queue.dequeue()) is not None:
            queue.execute(task)
        taken[lane] = seen
    assert taken == {
        "compute": [11, 13],
        "media": [12],
        "changes": [15],
        "labels": [],
        "live": [],
        "away": [16],
        "looks": [14],
    }


def test_jobs_run_in_the_worker_only(data):
    queue, task = open_queue(data[0], Lane.MEDIA)
    task(1)
    queue.execute(queue.dequeue())  # logs that it does not belong here; must not do anything
    assert queue.pending_count() == 0


def stands_back(pid):
    return os.getpriority(os.PRIO_PROCESS, pid) - os.getpriority(os.PRIO_PROCESS, 0)


@pytest.mark.slow
def test_killed_worker_is_replaced_and_takes_up_what_waits(data, project_id, clip_id):
    folder, _ = data
    first = sampling_job(data, project_id, clip_id)
    supervisor = Supervisor(folder.root)
    supervisor.start()
    try:
        # Recorded, but never put into the queue: the starting worker finds it.
        wait_for(lambda: state_of(data, first) == JobState.DONE)
        before = supervisor.pids()[Lane.MEDIA]
        with data[1].begin() as session:
            running = create_job(session, project_id, SAMPLE_CLIP, "Take frames", FRAMES).id
            claim(session, running)
        os.kill(before, signal.SIGKILL)
        wait_for(lambda: supervisor.pids()[Lane.MEDIA] != before)
        wait_for(lambda: state_of(data, running) == JobState.INTERRUPTED)
        second = sampling_job(data, project_id, clip_id)
        Queues(folder).enqueue(second, "sample_clip")
        wait_for(lambda: state_of(data, second) == JobState.DONE)
        with data[1]() as session:
            assert get_job(session, second).outcome == {"added": 0, "already_there": 10, "boxes": 0}
            assert len(list_jobs(session, project_id)) == 3 and not list_jobs(
                session, project_id, only_open=True
            )
        pids = supervisor.pids()
        # Whoever waits at the page goes before long work, and that before what goes on for ever.
        wait_for(
            lambda: [stands_back(pids[lane]) for lane in (Lane.CHANGES, Lane.MEDIA, Lane.LIVE)] == [2, 5, 10]
        )
    finally:
        supervisor.close()
    for pid in pids.values():
        with pytest.raises(ProcessLookupError):
            os.kill(pid, 0)


SERVER = """
import sys, time
from pathlib import Path
from avocet.jobs.supervisor import Supervisor
from avocet.work.job_kinds import Lane
supervisor = Supervisor(Path(sys.argv[1]))
supervisor.start()
while Lane.MEDIA not in supervisor.pids():
    time.sleep(0.001)
print(supervisor.pids()[Lane.MEDIA], flush=True)
time.sleep(60)
"""


@pytest.mark.slow
@pytest.mark.parametrize("started", [True, False])
def test_no_worker_outlives_its_server(data, started):
    server = subprocess.Popen(
        [sys.executable, "-c", SERVER, str(data[0].root)], stdout=subprocess.PIPE, text=True
    )
    pid = int(server.stdout.readline())
    if started:
        wait_for(lambda: data[0].queue.exists())
    # Otherwise the server is gone before its worker is even up.
    server.kill()
    server.wait()
    wait_for(lambda: not psutil.pid_exists(pid))


@pytest.mark.slow
def test_where_the_one_that_workers_are_forked_from_is_killed_others_take_their_place(data):
    supervisor = Supervisor(data[0].root)
    supervisor.start()
    try:
        wait_for(lambda: len(supervisor.pids()) >= 5)
        before = supervisor.pids()
        forked_from = psutil.Process(before[Lane.MEDIA]).ppid()
        os.kill(forked_from, signal.SIGKILL)
        wait_for(lambda: not before.items() & supervisor.pids().items())
        # None that was there does anything beside the one in its place.
        assert not any(does_something(pid) for pid in before.values())
    finally:
        supervisor.close()


def does_something(pid):
    """Whether it lives; one that has ended is in the system's list until its parent asks for it."""
    try:
        return psutil.Process(pid).status() != psutil.STATUS_ZOMBIE
    except psutil.NoSuchProcess:
        return False


class SlowToArrive:
    """A number of seconds that takes the process it is sent to a moment to read."""

    def __reduce__(self):
        return eval, ("__import__('time').sleep(1.5) or 60",)


@pytest.mark.slow
def test_one_that_had_not_begun_when_the_one_it_was_forked_from_was_killed_ends_as_well():
    process = start_process("sleeper", "time:sleep", (SlowToArrive(),))
    os.kill(psutil.Process(process.pid).ppid(), signal.SIGKILL)
    wait_for(lambda: not does_something(process.pid))


@pytest.mark.slow
def test_one_that_does_not_end_is_killed_before_another_takes_its_place(monkeypatch):
    """Where the process that it was forked from was killed, and it does not follow."""
    monkeypatch.setattr(keeping, "LAST_MOMENT", 0.2)
    kept = KeptProcess("stubborn", "time:sleep", (60,), pause=0.05)
    kept.want()
    wait_for(lambda: kept.pid is not None)
    before = kept.pid
    os.kill(before, signal.SIGSTOP)
    os.kill(psutil.Process(before).ppid(), signal.SIGKILL)
    wait_for(lambda: kept.pid != before)
    assert not does_something(before)
    kept.end()
    kept.wait()


@pytest.mark.slow
def test_a_worker_is_up_without_what_only_some_of_its_jobs_need():
    """What all of them import is paid for at every start."""
    look = "import sys, avocet.jobs.loaded; print(*{'scipy', 'av', 'torch', 'onnxruntime', 'PIL'} & set(sys.modules))"
    done = subprocess.run([sys.executable, "-c", look], capture_output=True, text=True, check=True)
    assert done.stdout.split() == []
