"""Hosts with addresses of their own: one is killed and one cut off in mid-work, and the result is that of one machine."""

import contextlib
import os
import shutil
import signal
import subprocess
import sys
import time

import pytest

from avocet.work.cluster.joining import QUIET
from avocet.work.train.run_files import read_log
from avocet.work.train.runs import get_run, start_run
from tests.conftest import at_length
from tests.work.cluster.conftest import QUICKLY
from tests.work.cluster.test_spread import contents

pytestmark = pytest.mark.slow

HOSTS = {"head": "10.213.77.1", "second": "10.213.77.2", "third": "10.213.77.3"}
BRIDGE = "avocet-bridge"
PORT = 6399
ENVIRONMENT = (
    QUIET
    | QUICKLY
    | {
        "RAY_AUTH_MODE": "token",
        "RAY_AUTH_TOKEN": "a" * 40,
        "OMP_NUM_THREADS": "1",
        "RAY_memory_monitor_refresh_ms": "0",
    }
)


def ip(*arguments, check=True):
    return subprocess.run(["ip", *arguments], check=check, capture_output=True, text=True)


def space(host):
    return f"avocet-{host}"


def on(host, *command, **options):
    """Start a command on a host."""
    return subprocess.Popen(
        ["ip", "netns", "exec", space(host), *map(str, command)], env=os.environ | ENVIRONMENT, **options
    )


@pytest.fixture
def hosts(tmp_path):
    """Three hosts on a network of their own, which nothing else is on; all of it goes with the test."""
    if os.geteuid() or not shutil.which("ip") or ip("netns", "add", space("head"), check=False).returncode:
        pytest.skip("network namespaces cannot be made here")
    started = []
    try:
        ip("link", "add", BRIDGE, "type", "bridge")
        ip("link", "set", BRIDGE, "up")
        for number, (host, address) in enumerate(HOSTS.items()):
            if host != "head":
                ip("netns", "add", space(host))
            ip(
                "link",
                "add",
                f"avocet-v{number}",
                "type",
                "veth",
                "peer",
                "name",
                "eth0",
                "netns",
                space(host),
            )
            ip("link", "set", f"avocet-v{number}", "master", BRIDGE, "up")
            for arguments in (
                ("addr", "add", f"{address}/24", "dev", "eth0"),
                ("link", "set", "eth0", "up"),
                ("link", "set", "lo", "up"),
            ):
                ip("-n", space(host), *arguments)
        ray = [sys.executable, "-m", "ray.scripts.scripts", "start", "--num-cpus=1", "--block"]
        for host, address in HOSTS.items():
            place = ["--head", f"--port={PORT}", "--include-dashboard=false"]
            if host != "head":
                place = [f"--address={HOSTS['head']}:{PORT}"]
            log = (tmp_path / f"{host}.log").open("w")
            started.append(
                on(host, *ray, f"--node-ip-address={address}", *place,
                   stdout=log, stderr=log, start_new_session=True)
            )  # fmt: skip
            if host == "head":
                wait_for(lambda: answers(), "the head")
        yield dict(zip(HOSTS, started, strict=True))
    finally:
        for each in started:
            kill(each)
        for host in HOSTS:
            for pid in ip("netns", "pids", space(host), check=False).stdout.split():
                with contextlib.suppress(ProcessLookupError):
                    os.kill(int(pid), signal.SIGKILL)
            ip("netns", "del", space(host), check=False)
        for link in (BRIDGE, *(f"avocet-v{number}" for number in range(len(HOSTS)))):
            ip("link", "del", link, check=False)


def answers():
    knock = f"import socket; socket.create_connection(({HOSTS['head']!r}, {PORT}), 1)"
    return on("head", sys.executable, "-c", knock, stderr=subprocess.DEVNULL).wait() == 0


def kill(process):
    """The whole host: everything that was started there."""
    with contextlib.suppress(ProcessLookupError):
        os.killpg(process.pid, signal.SIGKILL)
    process.wait()


def wait_for(true, what, seconds=60):
    ends = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < ends, what
        time.sleep(0.2)


RUN = """
import sys, time
from pathlib import Path
from avocet.work.cluster.spread import spreading
from avocet.work.models.bundle_set import Bundles
from avocet.work.models.opening import open_bundles
from avocet.work.progress import Silent
from avocet.work.use.running.detect import detect, gather
from avocet.work.use.running.order import DetectionOrder

address, model, out, mark, *inputs = sys.argv[1:]
bundles = Bundles((Path(model),))
finder = open_bundles(bundles)
order = DetectionOrder.for_model(finder.about, {"crops": True})

class Marked(Silent):
    def progress(self, done, total, message=""):
        while spread._pool.ready < 3 and not Path(mark).exists():
            time.sleep(0.05)
        if done >= 60 and not Path(mark).exists():
            Path(mark).touch()

with spreading(address, bundles, order, "Test") as spread:
    told = detect(finder, gather([Path(each) for each in inputs]), Path(out), order, Marked(), spread=spread)
print(told["workers_lost"], len(told["machines"]))
"""


@at_length
def test_one_host_is_killed_and_one_cut_off(hosts, things, look, tmp_path):
    # So much that each host is at work on some when the others go.
    inputs = [*[things.pictures] * 8, things.clip]
    look(tmp_path / "here", *inputs, copies="boxes", crops=True)
    out, mark = tmp_path / "there", tmp_path / "mark"
    given = [f"{HOSTS['head']}:{PORT}", things.model, out, mark, *inputs]
    run = on("head", sys.executable, "-c", RUN, *given, stdout=subprocess.PIPE, text=True)
    wait_for(lambda: mark.exists() or run.poll() is not None, "all three at work", 120)
    ip("link", "set", "avocet-v2", "down")
    kill(hosts["second"])
    said, _ = run.communicate(timeout=240)
    assert run.returncode == 0 and said.split() == ["2", "3"], said
    assert contents(out) == contents(tmp_path / "here"), "nothing is missing, nothing twice"


TRAIN = """
import sys
from pathlib import Path
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.work.cluster.training import teaming
from avocet.work.progress import Silent
from avocet.work.train.training import train_run

address, data, run, mark = sys.argv[1:]
folder = DataFolder(Path(data))
teaming.PATIENCE = 10.0

class Marked(Silent):
    def progress(self, done, total, message=""):
        if done >= 5:
            Path(mark).touch()

train_run(open_database(folder.database), folder, int(run), Marked(), address)
"""


@at_length
def test_a_training_goes_on_where_one_host_is_killed_and_one_cut_off(hosts, data, labelled, tmp_path):
    folder, sessions = data
    settings = {"side": 96, "epochs": 60, "batch": 4, "passes": 2, "augmentation": {"flips": "sideways"}}
    with sessions.begin() as session:
        run_id = start_run(session, folder, labelled, settings).id
    mark = tmp_path / "mark"
    given = [f"{HOSTS['head']}:{PORT}", folder.root, run_id, mark]
    run = on("head", sys.executable, "-c", TRAIN, *given, stderr=subprocess.PIPE, text=True)
    wait_for(lambda: mark.exists() or run.poll() is not None, "all three train", 120)
    ip("link", "set", "avocet-v2", "down")
    kill(hosts["second"])
    _, said = run.communicate(timeout=240)
    assert run.returncode == 0, said
    with sessions() as session:
        made = get_run(session, run_id)
        log = "\n".join(read_log(folder, made))
        assert [each.epoch for each in made.epochs] == list(range(1, 61)), "none is missing, none there twice"
    for host in HOSTS.values():
        assert host in log
    assert "Trains on 3 machines" in log and "trains on this one alone" in log
    assert log.count("does not answer any more") >= 1
