"""Jobs and the stream of events."""

import sys

from avocet.store.tables import Job
from tests.web.conftest import BASE


def test_events_tell_of_jobs_and_epochs(client, labelled, work, monkeypatch):
    monkeypatch.setattr(sys.modules["avocet.web.routes.jobs"], "LOOK_EVERY", 0.01)
    client.post(f"{BASE}/projects/1/runs", json={"settings": {"side": 96, "epochs": 1, "batch": 4}})
    stream = client.get(f"{BASE}/projects/1/events").response
    parts = iter(stream)
    assert b"retry" in next(parts)
    waiting = next(parts).decode()
    assert waiting.startswith("event: job") and '"state":"waiting"' in waiting
    work()
    seen = "".join(next(parts).decode() for _ in range(2))
    assert '"state":"done"' in seen and "event: epoch" in seen


def test_a_new_stream_tells_only_what_is_news(client, data, labelled, work, monkeypatch):
    events = sys.modules["avocet.web.routes.jobs"]
    monkeypatch.setattr(events, "LOOK_EVERY", 0.01)
    monkeypatch.setattr(events, "STREAM_SECONDS", 0.1)
    job = client.post(f"{BASE}/projects/1/crop-looks").json["job"]
    work()
    told = b"".join(client.get(f"{BASE}/projects/1/events").response)
    assert b'"state":"done"' in told
    with data[1].begin() as session:
        session.get(Job, job["id"]).ended_at -= 2 * events.LONG_AGO
    assert b"event: job" not in b"".join(client.get(f"{BASE}/projects/1/events").response)
    assert client.get(f"{BASE}/jobs/{job['id']}").json["state"] == "done"
    assert client.get(f"{BASE}/jobs/999").status_code == 404
