"""Jobs and the stream of events."""

import json
import threading

import pytest

from avocet.store.database import reading
from avocet.store.tables import Job, Part
from avocet.web.app import create_app
from avocet.web.events import EventHub
from avocet.web.kept import KeptLabels
from avocet.work.labels.columns import PARTS
from avocet.work.news import LONG_AGO
from avocet.work.pictures.filing import set_part
from tests.web.conftest import BASE


def told(events):
    """Names and contents of events."""
    lines = [line for text in events for line in text.splitlines() if line]
    return [
        (name.removeprefix("event: "), json.loads(data.removeprefix("data: ")))
        for name, data in zip(lines[::2], lines[1::2], strict=True)
    ]


@pytest.fixture
def hub(client, data):
    """A hub that looks when it is asked to, among the application's own schemas."""
    return EventHub(reading(data[1]), KeptLabels(reading(data[1])))


@pytest.mark.slow
def test_events_tell_of_jobs_and_epochs(client, hub, labelled, work):
    client.post(f"{BASE}/projects/1/runs", json={"settings": {"side": 96, "epochs": 1, "batch": 4}})
    seen, late = [], []
    leave = hub.follow(1, seen.append)
    assert [(name, job["state"]) for name, job in told(seen)] == [("job", "waiting")]
    work()
    hub.follow(1, late.append)
    hub.look()
    states = {job["kind"]: job["state"] for name, job in told(seen) if name == "job"}
    assert states == {"start_run": "done", "train": "done"}
    assert told(seen)[-1] == ("epoch", {"run_id": 1, "epoch": 1})
    # Whoever comes later is told how it stands, and nothing is told twice.
    assert {job["state"] for name, job in told(late) if name == "job"} == {"done"}
    count = len(told(seen))
    hub.look()
    assert len(told(seen)) == count
    leave()
    client.post(f"{BASE}/projects/1/crop-looks")
    hub.look()
    assert len(told(seen)) == count and told(late)[-1][1]["state"] == "waiting"


@pytest.mark.slow
def test_what_a_job_changed_is_read_before_somebody_asks(client, data, labelled, work):
    kept = KeptLabels(reading(data[1]))
    hub = EventHub(reading(data[1]), kept)
    hub.follow(1, lambda told: None)
    set_part(data[1], labelled, [1], Part.TEST)
    hub.look()
    # For whoever opens the page, and again while a job is at work.
    assert PARTS[until_read(kept).part[0]] == Part.TEST
    set_part(data[1], labelled, [1], None)
    kept._resting[1] = 0
    hub.look()
    assert PARTS[until_read(kept).part[0]] == Part.TEST
    client.post(f"{BASE}/projects/1/crop-looks")
    hub.look()
    read = until_read(kept)
    assert PARTS[read.part[0]] is None
    # What comes while it rests is read once it has rested.
    set_part(data[1], labelled, [1], Part.TRAINING)
    kept._resting[1] = float("inf")
    work()
    hub.look()
    assert until_read(kept) is read
    kept._resting[1] = 0
    hub.look()
    assert PARTS[until_read(kept).part[0]] == Part.TRAINING


def until_read(kept):
    """What is kept once nothing is being read."""
    for thread in threading.enumerate():
        if thread.name == "labels":
            thread.join(30)
    return kept._held.get(1)


def test_a_new_stream_tells_only_what_is_news(client, data, hub, labelled, work):
    job = client.post(f"{BASE}/projects/1/crop-looks").json["job"]
    work()
    seen = []
    hub.follow(1, seen.append)
    assert [each["state"] for _, each in told(seen)] == ["done"]
    with data[1].begin() as session:
        session.get(Job, job["id"]).ended_at -= 2 * LONG_AGO
    later = []
    hub.follow(1, later.append)
    assert told(later) == []
    assert client.get(f"{BASE}/jobs/{job['id']}").json["state"] == "done"
    assert client.get(f"{BASE}/jobs/999").status_code == 404


@pytest.mark.slow
def test_who_may_not_ask_may_not_follow(client, data, labelled):
    assert client.get(f"{BASE}/projects/1/events").mimetype == "text/event-stream"
    assert client.get(f"{BASE}/projects/99/events").status_code == 404
    guarded = create_app(*data, lambda *_: None, hosts=None, password="rye bread").test_client()
    assert guarded.get(f"{BASE}/projects/1/events").status_code == 401


def test_only_what_keeps_its_work_can_be_resumed(client, labelled, work):
    job = client.post(f"{BASE}/projects/1/crop-looks").json["job"]
    assert client.post(f"{BASE}/jobs/{job['id']}/stop").json["state"] == "stopped"
    assert not client.get(f"{BASE}/jobs/{job['id']}").json["resumable"]
    assert client.post(f"{BASE}/jobs/{job['id']}/resume").status_code == 422
