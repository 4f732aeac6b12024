"""Fixtures of what people can do: a project with pictures, a snapshot, a finished run."""

import pytest
from sqlalchemy.orm import sessionmaker

from avocet.jobs.worker import run_job
from avocet.store.tables import JobState
from avocet.work.judge.evaluations import (
    get_evaluation,
)
from avocet.work.judge.opened import Measured
from avocet.work.labels import classes
from avocet.work.labels.classes import add_class
from avocet.work.labels.undo import undo_change
from avocet.work.project.projects import create_project
from avocet.work.snapshots.snapshots import freeze, read_snapshot
from avocet.work.train.runs import start_run
from tests.conftest import add_still

QUICK = {"side": 96, "epochs": 2, "batch": 2, "passes": 1, "augmentation": {"flips": "sideways"}}


@pytest.fixture
def trained(data, labelled):
    """A finished run of two epochs: folder, sessions, its number."""
    folder, sessions = data
    with sessions.begin() as session:
        run = start_run(session, folder, labelled, QUICK)
        run_id, job_id = run.id, run.job_id
    run_job(sessions, folder, job_id)
    return folder, sessions, run_id


@pytest.fixture
def frozen(data, labelled):
    """The labelled project with a snapshot: folder, sessions, project, snapshot's number, what it holds."""
    folder, sessions = data
    with sessions.begin() as session:
        snapshot = freeze(session, folder, labelled)
        return folder, sessions, labelled, snapshot.id, read_snapshot(folder, snapshot)


def opened(frozen, evaluation_id):
    folder, sessions = frozen[:2]
    with sessions() as session:
        evaluation = get_evaluation(session, evaluation_id)
        assert evaluation.job.state == JobState.DONE, evaluation.job.message
        return Measured.opened(folder, evaluation), evaluation


@pytest.fixture
def session(data, labelled):
    with data[1]() as opened:
        yield opened


def apart(session, action, *given):
    """Do what opens its own transactions, once this session has none; its objects are read anew afterwards."""
    session.commit()
    try:
        return action(sessionmaker(session.get_bind(), expire_on_commit=False), *given)
    finally:
        session.expire_all()


def undo(session, project_id, change):
    """Undo a change, or one by its number."""
    number = change if isinstance(change, int) else getattr(change, "change_id", None) or change.id
    return apart(session, undo_change, project_id, number)


def do(data, make):
    """Record something that has a job, and do it as the worker would; its number."""
    folder, sessions = data
    with sessions.begin() as session:
        made = make(session, folder)
        number, job_id = made.id, made.job.id
    run_job(sessions, folder, job_id)
    return number


@pytest.fixture
def run_id(data, labelled):
    return do(data, lambda session, folder: start_run(session, folder, labelled, QUICK, "First"))


def by_name(session, project_id):
    return {each.name: each for each in classes.list_classes(session, project_id)}


@pytest.fixture
def picture(data, frames, tmp_path):
    """A session with a project that has one picture and one class; the picture and the class's number."""
    folder, sessions = data
    with sessions.begin() as session:
        project = create_project(session, "Belt")
        added = add_class(session, project.id, "roll")
        yield session, add_still(session, folder, project.id, frames[0], "a.jpg", tmp_path), added.id
