"""Trainings on several machines: one over all of them follows the curve of one, and a study's are dealt out."""

import csv
import re
import threading

import numpy as np
import psutil
import pytest

from avocet.jobs.worker import run_job
from avocet.store.tables import JobState, Part
from avocet.work.cluster.asked import CLUSTER
from avocet.work.cluster.shipping import ShippedFile
from avocet.work.job_givens import ForStudy, RunOrder
from avocet.work.job_kinds import STUDY, TRAIN_APART
from avocet.work.jobs import get_job, give, request_stop, resume_job
from avocet.work.progress import Silent, Stopped
from avocet.work.snapshots.frozen import frozen_file
from avocet.work.snapshots.snapshots import read_snapshot
from avocet.work.train.run_files import read_log
from avocet.work.train.runs import get_run, prepare_run, record_run, start_run
from avocet.work.train.studies import get_study, start_study
from avocet.work.train.training import train_run
from tests.conftest import at_length

pytestmark = [pytest.mark.slow, pytest.mark.long]

SETTINGS = {
    "side": 96, "epochs": 6, "batch": 4, "passes": 2, "number_format": "float32",
    "augmentation": {"flips": "sideways"},
}  # fmt: skip


class Watching(Silent):
    """Does something at a step, or stops there."""

    def __init__(self, at=None, then=None, stops=False):
        self._at, self._then, self._stops, self.steps = at, then, stops, []

    def progress(self, done, total, message=""):
        self.steps.append(done)
        if done >= (self._at or 0) and self._then:
            self._then()
            self._then = None

    def should_stop(self):
        return self._stops and bool(self.steps) and self.steps[-1] >= self._at


@pytest.fixture
def train(data, labelled):
    """Trains a run, by the machines at an address if there is one; its epochs, its steps and what its log says."""
    folder, sessions = data

    def trained(address=None, reporter=None, run_id=None, apart=False):
        if run_id is None:
            with sessions.begin() as session:
                run_id = start_run(session, folder, labelled, SETTINGS).id
        stopped = False
        try:
            train_run(sessions, folder, run_id, reporter or Silent(), address, apart)
        except Stopped:
            stopped = True
        with sessions() as session:
            run = get_run(session, run_id)
            place = folder.run(labelled, run_id)
            with (place / "steps.csv").open(encoding="ascii") as file:
                steps = [(int(step), float(loss)) for step, loss in csv.reader(file)]
            log = "\n".join(read_log(folder, run))
            return run_id, [(each.epoch, each.figures) for each in run.epochs], steps, log, stopped

    return trained


def losses(epochs):
    return np.array([[each["box"], each["objectness"], each["classes"]] for _, each in epochs])


def test_one_training_over_two_machines_follows_that_of_one(two_nodes, train):
    _, alone, steps_alone, _, _ = train()
    _, two, steps_two, log, _ = train(two_nodes.address)
    assert "Trains on 2 machines" in log
    assert [epoch for epoch, _ in two] == [1, 2, 3, 4, 5, 6]
    assert [step for step, _ in steps_two] == [step for step, _ in steps_alone]
    first = [loss for _, loss in steps_alone[:3]]
    assert [loss for _, loss in steps_two[:3]] == pytest.approx(first, rel=1e-4)
    assert losses(two) == pytest.approx(losses(alone), rel=0.1)


@at_length
def test_pictures_travel_where_the_other_machine_does_not_see_them(two_nodes, train, monkeypatch):
    real = ShippedFile.of.__func__

    def elsewhere(path):
        made = real(ShippedFile, path)
        return ShippedFile(made.path, made.size, made.changed + 1)

    monkeypatch.setattr(ShippedFile, "of", staticmethod(elsewhere))
    _, epochs, _, log, _ = train(two_nodes.address)
    assert "Trains on 2 machines" in log and len(epochs) == 6


@at_length
def test_stopped_and_resumed_over_two_machines(two_nodes, train):
    run_id, epochs, _, log, stopped = train(two_nodes.address, Watching(5, stops=True))
    assert stopped and [epoch for epoch, _ in epochs] == [1, 2] and "Stopped after epoch 2" in log
    _, epochs, steps, log, stopped = train(two_nodes.address, run_id=run_id)
    assert not stopped and [epoch for epoch, _ in epochs] == [1, 2, 3, 4, 5, 6]
    assert [step for step, _ in steps] == list(range(1, 13))
    assert log.count("Trains on 2 machines") == 2


def test_a_machine_that_dies_costs_an_epoch_at_most(two_nodes, train):
    third = two_nodes.add_node(num_cpus=1)
    watching = Watching(5, lambda: two_nodes.remove_node(third, allow_graceful=False))
    _, epochs, steps, log, _ = train(two_nodes.address, watching)
    assert "Trains on 3 machines" in log and "Trains on 2 machines" in log
    assert re.search(r"\d does not answer any more; goes on after epoch [2-5]", log)
    assert [epoch for epoch, _ in epochs] == [1, 2, 3, 4, 5, 6]
    assert [step for step, _ in steps] == list(range(1, 13)), "no step is missing or there twice"
    _, alone, _, _, _ = train()
    assert losses(epochs) == pytest.approx(losses(alone), rel=0.1)


@at_length
def test_a_run_on_one_other_machine_is_what_it_would_be_here(two_nodes, data, labelled, train, monkeypatch):
    monkeypatch.setattr("torch.get_num_threads", lambda: 1)
    run_id, _, steps_here, _, _ = train()
    other_id, _, steps_there, log, _ = train(two_nodes.address, apart=True)
    assert "Trains on 192." in log or "Trains on 1" in log
    assert [step for step, _ in steps_there] == [step for step, _ in steps_here]
    assert [loss for _, loss in steps_there] == pytest.approx([loss for _, loss in steps_here], rel=1e-3)
    folder, sessions = data
    names = [
        sorted(path.name for path in folder.run(labelled, each).iterdir()) for each in (run_id, other_id)
    ]
    assert names[0] == names[1], "all files of a run are there"
    with sessions() as session:
        runs = [get_run(session, each) for each in (run_id, other_id)]
        assert runs[0].best_epoch == runs[1].best_epoch


def test_two_runs_at_once_on_two_machines_and_one_fails(two_nodes, data, labelled, monkeypatch):
    """Each on a machine; the lane's threads share the connection, and what breaks one leaves the other alone."""
    folder, sessions = data
    monkeypatch.setenv(CLUSTER, two_nodes.address)
    jobs, seen = [], []
    with sessions.begin() as session:
        for number in range(2):
            order = RunOrder(project_id=labelled, settings=SETTINGS | {"seed": number}, apart=True)
            run = record_run(session, folder, prepare_run(session, folder, order))
            assert run.job.kind == TRAIN_APART.key
            jobs.append((run.id, run.job_id))
    place = folder.run(labelled, jobs[1][0])
    place.mkdir(parents=True, exist_ok=True)
    # A checkpoint that cannot be gone on from.
    (place / "latest.safetensors").write_bytes(b"nothing")
    threads = [threading.Thread(target=run_job, args=(sessions, folder, job_id)) for _, job_id in jobs]
    for each in threads:
        each.start()
    for each in threads:
        each.join(120)
    with sessions() as session:
        good, bad = (get_run(session, run_id) for run_id, _ in jobs)
        assert (good.job.state, bad.job.state) == (JobState.DONE, JobState.FAILED), (good.job.message, seen)
        assert [each.epoch for each in good.epochs] == [
            1,
            2,
            3,
            4,
            5,
            6,
        ] and "latest.safetensors" in bad.job.message


@at_length
def test_a_run_on_one_other_machine_stops_and_is_resumed(two_nodes, train):
    run_id, epochs, _, log, stopped = train(two_nodes.address, Watching(5, stops=True), apart=True)
    assert stopped and len(epochs) < 6 and "Stopped after epoch" in log
    _, epochs, steps, _, stopped = train(two_nodes.address, run_id=run_id, apart=True)
    assert not stopped and [epoch for epoch, _ in epochs] == [1, 2, 3, 4, 5, 6]
    assert [step for step, _ in steps] == list(range(1, 13))


@at_length
def test_where_its_machine_dies_another_one_goes_on(two_nodes, train):
    killed = []

    def kill():
        for each in psutil.process_iter(["cmdline"]):
            if "ray::Apprentice" in " ".join(each.info["cmdline"] or []):
                each.kill()
                killed.append(each.pid)

    _, epochs, steps, log, _ = train(two_nodes.address, Watching(5, kill), apart=True)
    assert killed and "does not answer any more; goes on after epoch" in log
    assert [epoch for epoch, _ in epochs] == [1, 2, 3, 4, 5, 6]
    assert [step for step, _ in steps] == list(range(1, 13))


@pytest.fixture
def study(data, labelled, two_nodes, monkeypatch):
    """A study of four trainings that the machines of the cluster do."""
    folder, sessions = data
    monkeypatch.setenv(CLUSTER, two_nodes.address)
    with sessions.begin() as session:
        made = start_study(session, folder, labelled, SETTINGS | {"epochs": 1}, 24, 1)
        give(made.job, STUDY, ForStudy(study_id=made.id, on_cluster=True))
        return made.id, made.job_id


@at_length
def test_the_trainings_of_a_study_are_dealt_out(data, labelled, study):
    folder, sessions = data
    study_id, job_id = study
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        there = get_study(session, study_id)
        assert there.job.state == JobState.DONE, there.job.message
        assert sorted(each["pictures"] for each in there.results) == [1, 2, 3, 4]
        dealt = {each["pictures"]: each["map50"] for each in there.results}
        here = start_study(session, folder, labelled, SETTINGS | {"epochs": 1}, 24, 1)
        here_id, here_job = here.id, here.job_id
    run_job(sessions, folder, here_job)
    with sessions() as session:
        alone = {each["pictures"]: each["map50"] for each in get_study(session, here_id).results}
    assert dealt.keys() == alone.keys()


def test_one_that_fails_does_not_take_the_others_along(data, labelled, study):
    folder, sessions = data
    study_id, job_id = study
    with sessions() as session:
        there = get_study(session, study_id)
        frozen, seed = read_snapshot(folder, there.snapshot), there.plan[0]["seed"]
    pictures = [each for each in frozen.pictures if each.part == Part.TRAINING]
    # Only the training on all four learns from the last of the order.
    last = pictures[int(np.random.default_rng([seed, 4]).permutation(4)[3])]
    path = frozen_file(folder, labelled, last)
    whole = path.read_bytes()
    path.write_bytes(b"no picture")
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        there = get_study(session, study_id)
        assert sorted(each["pictures"] for each in there.results) == [1, 2, 3]
        assert there.job.state == JobState.FAILED
        assert "1 of 4 trainings failed. 4 pictures with seed 0" in there.job.message
        assert last.name in there.job.message
        path.write_bytes(whole)
        resume_job(session, job_id)
    run_job(sessions, folder, job_id)
    with sessions() as session:
        there = get_study(session, study_id)
        assert (there.job.state, len(there.results)) == (JobState.DONE, 4), there.job.message


def test_a_study_stops(data, study):
    folder, sessions = data
    with sessions.begin() as session:
        request_stop(session, study[1])
    run_job(sessions, folder, study[1])
    with sessions() as session:
        assert get_job(session, study[1]).state == JobState.STOPPED


@at_length
def test_without_another_machine_it_trains_alone(train, monkeypatch):
    monkeypatch.setenv("OMP_NUM_THREADS", "1")
    _, epochs, _, log, _ = train("local")
    assert "No other machine of the cluster takes part" in log and len(epochs) == 6
