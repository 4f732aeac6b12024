"""A client of the server, and a worker that works when told to."""

import io

import pytest

from avocet.jobs.worker import run_job
from avocet.media.pictures import encode_jpeg

BASE = "/api/v1"


@pytest.fixture
def queued():
    return []


@pytest.fixture
def client(data, queued, app_of):
    return app_of(*data, lambda job_id, kind: queued.append(job_id)).test_client()


@pytest.fixture
def work(data, queued):
    """Does what was queued, as the worker would."""
    folder, sessions = data

    def run():
        while queued:
            run_job(sessions, folder, queued.pop(0), lambda job_id, _kind: queued.append(job_id))

    return run


@pytest.fixture
def one_by_one(data, queued):
    """Does the next job only, and leaves what follows from it in the queue."""
    folder, sessions = data

    def run():
        run_job(sessions, folder, queued.pop(0), lambda job_id, _kind: queued.append(job_id))

    return run


def jpeg(frame):
    return io.BytesIO(encode_jpeg(frame.pixels))


def send(client, url, *files, **fields):
    return client.post(
        BASE + url,
        data={"files": [(content, name) for content, name in files], **fields},
        content_type="multipart/form-data",
    )


QUICK = {"side": 96, "epochs": 1, "batch": 2, "passes": 1}


@pytest.fixture
def judged(client, labelled, work):
    """A quick run, and its measurement on validation."""
    client.post(f"{BASE}/projects/1/runs", json={"name": "quick", "settings": QUICK})
    work()
    assert client.post(f"{BASE}/projects/1/evaluations", json={"run_id": 1}).status_code == 202
    work()
    return client


def outcome(client, job_id):
    """A job with what it came to."""
    job = client.get(f"{BASE}/jobs/{job_id}").json
    return job | {"outcome": job["outcome"][job["kind"]]}
