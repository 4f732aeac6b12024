"""A project with a finished run."""

import pytest

from avocet.jobs.worker import run_job
from avocet.work.runs import start_run

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
