"""Jobs: how they end, whatever happens."""

import datetime as dt
import threading
import time

import pytest

from avocet.core.errors import InputError
from avocet.jobs.worker import run_job
from avocet.store.tables import JobState, Run, now
from avocet.work.job_kinds import TRAIN
from avocet.work.jobs import (
    JobReporter,
    claim,
    create_job,
    get_job,
    mark_interrupted,
    request_stop,
    seconds_left,
    waiting_jobs,
)
from avocet.work.train.runs import get_run, resume_run, start_run
from tests.work.conftest import QUICK


@pytest.mark.slow
def test_interrupted_run_goes_on(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        run = start_run(session, folder, labelled, QUICK | {"epochs": 3})
        run_id, job_id = run.id, run.job_id
        claim(session, job_id)
    with sessions.begin() as session:
        assert mark_interrupted(session, {"train"}) == 1
        assert get_job(session, job_id).state == JobState.INTERRUPTED
        resume_run(session, run_id)
        with pytest.raises(InputError, match="cannot be resumed: it is waiting"):
            resume_run(session, run_id)
    run_job(sessions, folder, job_id)
    with sessions() as session:
        assert [each.epoch for each in get_run(session, run_id).epochs] == [1, 2, 3]


def test_a_command_is_taken_for_dead_only_when_long_silent(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        job = create_job(session, labelled, TRAIN, "Train")
        claim(session, job.id, by_command=True)
        assert mark_interrupted(session, {"train"}) == 0 and waiting_jobs(session, {"train"}) == []
        job.heartbeat_at -= dt.timedelta(minutes=5)
        session.flush()
        assert mark_interrupted(session, {"train"}) == 1
        waiting = create_job(session, labelled, TRAIN, "Train")
        assert waiting_jobs(session, {"train"}) == [waiting.id]


def test_stopped_before_it_began(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        job_id = start_run(session, folder, labelled, QUICK).job_id
        request_stop(session, job_id)
    run_job(sessions, folder, job_id)
    with sessions() as session:
        assert get_job(session, job_id).state == JobState.STOPPED


def test_unexpected_errors_end_a_job_too(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        job_id = create_job(session, labelled, TRAIN, "Train nothing").id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        job = get_job(session, job_id)
        assert job.state == JobState.FAILED and "ValidationError" in job.message


def test_progress_is_recorded_and_stop_is_seen(data, labelled, monkeypatch):
    _, sessions = data
    with sessions.begin() as session:
        job_id = create_job(session, labelled, TRAIN, "Train").id
        claim(session, job_id)
    clock = [100.0]
    monkeypatch.setattr("avocet.work.jobs.time.monotonic", lambda: clock[0])
    reporter = JobReporter(sessions, job_id)
    clock[0] += 30
    # Somebody sets the clock on the wall back meanwhile: it is only shown, never counted by.
    monkeypatch.setattr("avocet.work.jobs.now", lambda: now() - dt.timedelta(days=3))
    reporter.progress(1, 4, "first")
    assert not reporter.should_stop()
    with sessions.begin() as session:
        # A quarter took half a minute.
        assert seconds_left(get_job(session, job_id)) == 90
        request_stop(session, job_id)
    reporter.progress(4, 4, "last")
    assert reporter.should_stop()


@pytest.mark.slow
def test_two_runs_started_at_once_are_both_done(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        runs = [start_run(session, folder, labelled, QUICK | {"epochs": 1}) for _ in range(2)]
        numbers, jobs = [run.id for run in runs], [run.job_id for run in runs]
    for job_id in (*jobs, jobs[0]):  # queued twice is done once
        run_job(sessions, folder, job_id)
    with sessions() as session:
        assert [get_run(session, number).job.state for number in numbers] == [JobState.DONE] * 2
        assert [get_run(session, number).name for number in numbers] == ["Stint 1", "Stint 2"]


@pytest.mark.slow
def test_a_database_locked_for_seconds_loses_nothing(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        run = start_run(session, folder, labelled, QUICK)
        run_id, job_id = run.id, run.job_id
    held, done = threading.Event(), threading.Event()

    def hold():
        with sessions.begin() as session:
            session.query(Run).first().note = "held"
            session.flush()
            held.set()
            time.sleep(3)
        done.set()

    thread = threading.Thread(target=hold)
    thread.start()
    held.wait()
    run_job(sessions, folder, job_id)
    thread.join()
    with sessions() as session:
        run = get_run(session, run_id)
        assert done.is_set() and run.job.state == JobState.DONE, run.job.message
        assert [each.epoch for each in run.epochs] == [1, 2] and run.note == "held"
